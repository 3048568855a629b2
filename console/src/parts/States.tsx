import { Archive } from "lucide-react";
import type { ReactNode } from "react";

// Loading keeps the height of what comes, so that nothing jumps.
export function Loading({ what }: { what: string }) {
  return (
    <p className="muted flex min-h-60 items-center justify-center" role="status">
      Opening {what} …
    </p>
  );
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="panel flex min-h-60 flex-col items-center justify-center gap-2 text-center">
      <Archive className="text-secondary size-8" aria-hidden />
      <h2 className="text-xl">{title}</h2>
      <div className="muted max-w-prose">{children}</div>
    </div>
  );
}
