import type { ReactNode } from "react";

// Gate is the one panel that is shown before the chest can be seen.
export function Gate({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="flex min-h-screen items-center justify-center p-6">
      <div className="border-base-300 bg-base-200 grid w-full max-w-md gap-5 rounded-box border border-t-8 border-t-primary p-8">
        <p className="flex items-center gap-2 font-serif text-xl font-semibold">
          <img src="/mark.svg" alt="" className="size-8" /> Tansu
        </p>
        <h1 className="text-2xl font-semibold">{title}</h1>
        {children}
      </div>
    </main>
  );
}
