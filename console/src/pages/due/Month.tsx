import { Link } from "react-router";

// Day is something that happens on a day.
export type Day = { id: string; at: string; label: string; title: string; to: string; over: boolean };

const weekdays = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const key = (d: Date) => d.toISOString().slice(0, 10);

// daysOf lists the days of whole weeks, from Monday, that a month is in.
function daysOf(month: Date): Date[] {
  const first = new Date(month);
  first.setUTCDate(1 - ((month.getUTCDay() + 6) % 7));
  const days: Date[] = [];
  for (
    let d = first;
    days.length % 7 !== 0 || d.getUTCMonth() === month.getUTCMonth() || days.length === 0;
    d = new Date(d.getTime() + 86_400_000)
  )
    days.push(d);
  return days;
}

// Month draws one month; each day names what ends on it.
export function Month({ month, list }: { month: Date; list: Day[] }) {
  const today = key(new Date());
  const byDay = new Map<string, Day[]>();
  for (const d of list) byDay.set(key(new Date(d.at)), [...(byDay.get(key(new Date(d.at))) ?? []), d]);
  return (
    <table className="border-base-300 w-full table-fixed border-collapse border">
      <thead>
        <tr>
          {weekdays.map((w) => (
            <th key={w} scope="col" className="border-base-300 border p-1 text-sm">
              {w}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {chunks(daysOf(month)).map((week) => (
          <tr key={key(week[0] ?? month)}>
            {week.map((d) => {
              const there = byDay.get(key(d)) ?? [];
              const other = d.getUTCMonth() !== month.getUTCMonth();
              return (
                <td key={key(d)} className={`border-base-300 h-16 border p-1 align-top ${there.length > 0 ? "bg-base-200" : ""}`}>
                  <span
                    className={[
                      "text-sm",
                      other ? "muted" : "",
                      key(d) === today ? "bg-primary text-primary-content rounded px-1 font-semibold" : "",
                    ].join(" ")}
                  >
                    {d.getUTCDate()}
                  </span>
                  {there.slice(0, 2).map((due) => (
                    <Link
                      key={due.id}
                      to={due.to}
                      title={due.title}
                      className={`name block truncate text-xs font-medium ${due.over ? "text-error" : "text-warning"}`}
                    >
                      {due.label}
                    </Link>
                  ))}
                  {there.length > 2 && <span className="muted text-xs">{there.length - 2} more</span>}
                </td>
              );
            })}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function chunks(days: Date[]): Date[][] {
  const weeks: Date[][] = [];
  for (let at = 0; at < days.length; at += 7) weeks.push(days.slice(at, at + 7));
  return weeks;
}
