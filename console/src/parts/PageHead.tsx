import type { ReactNode } from "react";
import { Link } from "react-router";

type PageHeadProps = { title: ReactNode; above?: { to: string; text: string }; aside?: ReactNode; children?: ReactNode };

// PageHead is the title of a page, the way back up, and what can be done here.
export function PageHead({ title, above, aside, children }: PageHeadProps) {
  return (
    <div className="mb-6 flex flex-wrap items-end justify-between gap-4">
      <div className="grid min-w-0 gap-1">
        {above && <Link to={above.to} className="link link-hover muted name text-sm">← {above.text}</Link>}
        <h1 className="flex flex-wrap items-center gap-3 text-3xl font-semibold">{title}</h1>
        {children && <div className="muted max-w-prose">{children}</div>}
      </div>
      {aside && <div className="flex flex-wrap gap-2">{aside}</div>}
    </div>
  );
}
