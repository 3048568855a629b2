import type { Schemas } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { Table } from "../../parts/Table";

const marks: Record<string, string> = {
  new: "gains",
  changed: "altered",
  same: "usable",
  exists: "ended",
  invalid: "failed",
  refused: "refused",
};

type ReportProps = { report: Schemas["ImportReport"]; drawer: string; left: string[]; onLeave?: (name: string) => void };

type Row = { key: string; line: number; name: string; item: string; mark: string; word: string; why: string };

// ImportReport says what becomes of each entry of a file; with onLeave, single ones can be left out.
export function ImportReport({ report, drawer, left, onLeave }: ReportProps) {
  const rows: Row[] = [
    ...report.problems.map((p) => ({
      key: `p${p.line}`,
      line: p.line,
      name: "",
      item: "",
      mark: "failed",
      word: "not readable",
      why: p.text,
    })),
    ...report.items.map((it) => ({
      key: `${it.line} ${it.name}`,
      line: it.line,
      name: it.name,
      item: `${drawer}/${it.item}`,
      mark: marks[it.result] ?? "empty",
      word: it.result,
      why: it.result === "exists" ? "tick “Add a version to items that exist”, or leave it out" : it.detail,
    })),
    ...left.map((name) => ({ key: `l${name}`, line: 0, name, item: "", mark: "withdrawn", word: "left out", why: "" })),
  ];
  return (
    <div className="max-h-96 overflow-y-auto">
      <Table
        label="What happens to each entry"
        rows={rows}
        id={(r) => r.key}
        find={(r) => `${r.name} ${r.word} ${r.why}`}
        columns={[
          { head: "Line", cell: (r) => r.line || "" },
          { head: "Name", className: "name", cell: (r) => r.name },
          { head: "Item", className: "name", cell: (r) => r.item },
          { head: "Result", cell: (r) => <Mark state={r.mark} word={r.word} /> },
          { head: "Why", hidden: true, cell: (r) => r.why },
          onLeave !== undefined && {
            head: "Do",
            hidden: true,
            cell: (r) =>
              r.name && (
                <button type="button" className="btn btn-ghost btn-xs" onClick={() => onLeave(r.name)}>
                  {left.includes(r.name) ? "Import it" : "Leave it out"}
                  <span className="sr-only"> {r.name}</span>
                </button>
              ),
          },
        ]}
      />
    </div>
  );
}
