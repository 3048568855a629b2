import { NavLink } from "react-router";

const places = [
  { to: "/access", text: "People, apps and teams" }, { to: "/access/matrix", text: "Matrix" },
  { to: "/access/tighten", text: "Tighten" }, { to: "/access/policy", text: "Policy file" },
];

// Tabs lead through the pages about access.
export function Tabs() {
  return (
    <nav aria-label="About access" className="border-base-300 mb-6 flex flex-wrap gap-x-6 border-b">
      {places.map(({ to, text }) => (
        <NavLink key={to} to={to} end className={({ isActive }) => `-mb-px border-b-2 py-2 font-semibold ${isActive ? "border-primary text-primary" : "border-transparent"}`}>{text}</NavLink>
      ))}
    </nav>
  );
}
