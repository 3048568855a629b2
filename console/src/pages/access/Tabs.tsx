import { NavLink } from "react-router";
import { useMay } from "../../api/may";

// Tabs lead through the pages about access that the viewer may see.
export function Tabs() {
  const may = useMay();
  const whole = may.everything("grant", "read_trail");
  const places = [
    { to: "/access", text: "People, apps, teams", shown: true },
    { to: "/access/grants", text: "Grants", shown: true },
    { to: "/access/roles", text: "Roles", shown: true },
    { to: "/access/ask", text: "Check access", shown: true },
    { to: "/access/matrix", text: "Matrix", shown: may.seesIdentities },
    { to: "/access/tighten", text: "Tighten", shown: whole },
    { to: "/access/policy", text: "Policy file", shown: whole },
  ];
  return (
    <nav aria-label="About access" className="border-base-300 mb-6 flex flex-wrap gap-x-6 border-b print:hidden">
      {places
        .filter((p) => p.shown)
        .map(({ to, text }) => (
          <NavLink
            key={to}
            to={to}
            end
            className={({ isActive }) =>
              `-mb-px border-b-2 py-2 font-semibold ${isActive ? "border-primary text-primary" : "border-transparent"}`
            }
          >
            {text}
          </NavLink>
        ))}
    </nav>
  );
}
