// One row by a rule, clause by clause.
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { http, type RuleBody, type Schemas, type Sheet, take, words } from "../../api/client";
import { keys } from "../../api/keys";
import { Blank, Choices } from "../../parts/picker";

export function TryRow({ sheet, body, first }: { sheet: Sheet; body: RuleBody; first?: string }) {
  const [row, setRow] = useState<string>();
  const [find, setFind] = useState("");
  const [open, setOpen] = useState(false);
  const rows = useQuery({
    queryKey: keys.tryRows(sheet.id, find),
    enabled: open || (!row && !first),
    meta: { still: true },
    queryFn: async () =>
      (
        await take(
          http.POST("/sheets/{sheet}/rows/query", {
            params: { path: { sheet: sheet.id } },
            body: { find: find || undefined, offset: 0, limit: 30 },
          }),
        )
      ).rows,
  });
  const id = row ?? first ?? rows.data?.[0]?.id;
  const why = useQuery({
    queryKey: [...keys.explain(sheet.id), body, id],
    enabled: !!id,
    queryFn: () =>
      take(http.POST("/sheets/{sheet}/rules/explain", { params: { path: { sheet: sheet.id } }, body: { body, row: id ?? "" } })),
  });
  const key = useMemo(() => sheet.columns.findIndex((c) => c.id === sheet.key), [sheet]);
  const second = (r: Schemas["Row"]) => r.cells.find((c, i) => i !== key && c.text)?.text ?? "";
  return (
    <section className="mt-5">
      <h2 className="mb-1.5">
        Try a row{" "}
        <span className="ml-2 font-normal">
          <Blank title="Which row" label="Row" words={why.data?.row ?? "choose one"} open={open} onOpenChange={setOpen}>
            <input
              className="field mb-2 w-64"
              aria-label="Find a row"
              placeholder="find a row"
              value={find}
              onChange={(e) => setFind(e.target.value)}
            />
            <Choices
              name="row"
              value={id}
              onChoose={(r) => {
                setRow(r);
                setOpen(false);
              }}
              items={(rows.data ?? []).map((r) => ({ id: r.id, name: r.name, note: second(r).slice(0, 30) }))}
            />
          </Blank>
        </span>
      </h2>
      {why.error && (
        <p role="alert" className="text-ink-2">
          {words(why.error)}
        </p>
      )}
      {why.data && (
        <>
          <ul className="flex flex-col gap-1">
            {why.data.clauses.map((c, i) => (
              <li key={i} className="grid grid-cols-[56px_1fr_auto] gap-2.5">
                <span className={c.holds === "yes" ? "text-juniper" : c.holds === "no" ? "text-brick" : "text-plum"}>{c.holds}</span>
                <span>{c.text}</span>
                <span className="text-ink-2">{c.note}</span>
              </li>
            ))}
          </ul>
          <p className="mt-2.5 font-letter text-sm leading-[22px]">{why.data.summary}</p>
        </>
      )}
    </section>
  );
}
