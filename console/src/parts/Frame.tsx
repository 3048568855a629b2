import { Archive, CalendarClock, Clock, Inbox, LifeBuoy, LogOut, Moon, ScrollText, Sun, Users } from "lucide-react";
import { useState, type ReactNode } from "react";
import { Link, NavLink } from "react-router";
import { api, type Schemas } from "../api/client";
import { useSetStewardsAside } from "../api/rights";
import { Dialog } from "./Dialog";
import { Find } from "./Find";
import { ProblemBox } from "./ProblemBox";
import { setExactTimes, useExactTimes } from "./When";

// placesOf are the pages that somebody has something to do on. Looking after the chest as a whole is for operators, and for whoever has a
// share of what opens it to take.
function placesOf(me: Schemas["Me"]) {
  const places = [
    { to: "/", text: "Chest", Icon: Archive, shown: true },
    { to: "/due", text: "Due", Icon: CalendarClock, shown: true },
    { to: "/access", text: "Access", Icon: Users, shown: true },
    { to: "/refusals", text: "Requests", Icon: Inbox, shown: true },
    { to: "/trail", text: "Trail", Icon: ScrollText, shown: me.may.somewhere.includes("read_trail") },
    { to: "/operation", text: "Operation", Icon: LifeBuoy, shown: me.operate || me.shares_waiting > 0 || me.master_keys > 0 },
  ];
  return places.filter((p) => p.shown);
}

// Frame is what every page stands in.
export function Frame({ me, records, children }: { me: Schemas["Me"]; records: boolean; children: ReactNode }) {
  return (
    <div className="flex min-h-screen flex-col">
      <a href="#content" className="btn btn-primary absolute -top-20 left-2 z-10 focus:top-2">
        Skip to content
      </a>
      <header className="border-base-300 border-b print:hidden">
        <div className="mx-auto flex max-w-7xl flex-wrap items-center gap-x-6 gap-y-2 px-6 py-3 max-sm:gap-y-1 max-sm:px-4 max-sm:py-2">
          <Link to="/" className="flex items-center gap-2 font-serif text-xl font-semibold">
            <img src="/mark.svg" alt="" className="size-7" /> Tansu
          </Link>
          <nav aria-label="Pages" className="flex flex-wrap gap-1">
            {placesOf(me).map(({ to, text, Icon }) => (
              <NavLink
                key={to}
                to={to}
                end={to === "/"}
                className={({ isActive }) =>
                  `btn btn-ghost btn-sm max-sm:px-2 ${isActive ? "text-primary underline decoration-2 underline-offset-8" : ""}`
                }
              >
                <Icon className="size-4 max-sm:hidden" aria-hidden /> {text}
              </NavLink>
            ))}
          </nav>
          <div className="ml-auto flex items-center gap-1 max-sm:ml-0">
            <Find />
            <Link to="/account" className="btn btn-ghost btn-sm name font-normal max-sm:px-1" title="Your account: password and sessions">
              {me.subject}
            </Link>
            <TimesSwitch />
            <ThemeSwitch />
            <button type="button" className="btn btn-ghost btn-sm" onClick={() => void signOut()}>
              <LogOut className="size-4" aria-hidden /> <span className="max-sm:sr-only">Sign out</span>
            </button>
          </div>
        </div>
      </header>
      {!records && (
        <aside
          aria-label="About recording"
          role="alert"
          className="bg-error text-error-content px-6 py-2 text-center text-sm font-semibold"
        >
          Nothing can be recorded now, so no value is served and nothing changes: is the disk full? The service’s log says why, and it goes
          on by itself when it can.
        </aside>
      )}
      {me.steward && (
        <aside aria-label="About the steward" className="bg-warning text-warning-content px-6 py-2 text-center text-sm font-semibold">
          You are the steward, who exists to appoint others. Give duties to named people, and work as one of them. <SetAside />
        </aside>
      )}
      <main id="content" className="mx-auto w-full max-w-7xl grow px-6 py-8">
        {children}
      </main>
    </div>
  );
}

// SetAside ends the steward's time; only the machine itself brings the steward back.
function SetAside() {
  const aside = useSetStewardsAside();
  const [asked, setAsked] = useState(false);
  return (
    <>
      <button type="button" className="link" onClick={() => setAsked(true)}>
        Set the steward aside
      </button>
      {asked && (
        <Dialog title="Set the steward aside" onClose={() => setAsked(false)}>
          <div className="grid gap-4">
            <p>
              Nobody signs in as the steward from then on. Only on the machine itself can the steward be brought back:{" "}
              <code className="name text-sm">tansu steward bring-back</code>.
            </p>
            {aside.error && <ProblemBox error={aside.error} />}
            <div className="flex justify-end gap-2">
              <button type="button" className="btn btn-ghost" onClick={() => setAsked(false)}>
                Cancel
              </button>
              <button
                type="button"
                className="btn btn-primary"
                disabled={aside.isPending}
                onClick={() => aside.mutate(undefined, { onSuccess: () => window.location.assign("/") })}
              >
                Set aside
              </button>
            </div>
          </div>
        </Dialog>
      )}
    </>
  );
}

// signOut ends the session and loads the page anew, so that nothing of it stays in memory.
async function signOut() {
  await api.POST("/api/sign-out").catch(() => undefined);
  window.location.assign("/");
}

// TimesSwitch shows the exact times everywhere, or how far they are.
function TimesSwitch() {
  const exact = useExactTimes();
  return (
    <button
      type="button"
      className="btn btn-ghost btn-sm btn-square"
      aria-pressed={exact}
      aria-label="Exact times"
      title="Exact times, in UTC"
      onClick={() => setExactTimes(!exact)}
    >
      <Clock className={`size-4 ${exact ? "text-primary" : ""}`} aria-hidden />
    </button>
  );
}

function ThemeSwitch() {
  const dark = () => {
    const chosen = document.documentElement.dataset.theme;
    return chosen ? chosen === "lacquer" : window.matchMedia("(prefers-color-scheme: dark)").matches;
  };
  const [night, setNight] = useState(dark);
  const turn = () => {
    const theme = night ? "paper" : "lacquer";
    document.documentElement.dataset.theme = theme;
    localStorage.setItem("theme", theme);
    setNight(!night);
  };
  return (
    <button type="button" className="btn btn-ghost btn-sm btn-square" onClick={turn} aria-label={night ? "Day theme" : "Night theme"}>
      {night ? <Sun className="size-4" aria-hidden /> : <Moon className="size-4" aria-hidden />}
    </button>
  );
}
