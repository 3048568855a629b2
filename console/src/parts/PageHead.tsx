import { useEffect, useRef, type ReactNode } from "react";
import { Link, useLocation } from "react-router";

type PageHeadProps = { title: ReactNode; above?: { to: string; text: string }; aside?: ReactNode; children?: ReactNode };

// Where the browser is since the page was loaded; empty until the first heading was drawn.
const been = { path: "" };

// PageHead is the title of a page, the way back up, and what can be done here. The window is named by it, and after going from page to page
// the focus is on it, so that whoever listens hears where they are.
export function PageHead({ title, above, aside, children }: PageHeadProps) {
  const heading = useRef<HTMLHeadingElement>(null);
  const { pathname } = useLocation();
  useEffect(() => {
    document.title = `${
      heading.current?.innerText
        .trim()
        .split(/\s*\n\s*/)
        .join(" ") ?? ""
    } · Tansu`;
  });
  useEffect(() => {
    if (been.path && been.path !== pathname && !document.querySelector("dialog[open]")) heading.current?.focus();
    been.path = pathname;
  }, [pathname]);
  return (
    <div className="mb-6 flex flex-wrap items-end justify-between gap-4">
      <div className="grid min-w-0 gap-1">
        {above && (
          <Link to={above.to} className="link link-hover muted name text-sm print:hidden">
            ← {above.text}
          </Link>
        )}
        <h1
          ref={heading}
          tabIndex={-1}
          data-path={pathname}
          className="flex flex-wrap items-center gap-3 text-3xl font-semibold outline-none"
        >
          {title}
        </h1>
        {children && <div className="muted max-w-prose">{children}</div>}
      </div>
      {aside && <div className="flex flex-wrap gap-2 print:hidden">{aside}</div>}
    </div>
  );
}
