import type { ReactNode } from "react";

// Scroll holds a table that may be wider than the window; the keyboard can scroll it.
export function Scroll({ label, children }: { label: string; children: ReactNode }) {
  return (
    <div className="overflow-x-auto" role="region" aria-label={label} tabIndex={0}>
      {children}
    </div>
  );
}
