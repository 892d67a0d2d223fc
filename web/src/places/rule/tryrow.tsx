// One row by a rule, clause by clause: any row, found by what it holds.
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { http, type Rule, type RuleBody, type Schemas, type Sheet, take, words } from "../../api/client";
import { keys } from "../../api/keys";
import { Blank, Choices } from "../../parts/picker";
import { useWhy, Why } from "./why";

export function TryRow({ sheet, rule, body, first }: { sheet: Sheet; rule?: Rule; body: RuleBody; first?: string }) {
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
  const why = useWhy(sheet.id, body, rule?.id, id);
  const key = useMemo(() => sheet.columns.findIndex((c) => c.id === sheet.key), [sheet]);
  const second = (r: Schemas["Row"]) => r.cells.find((c, i) => i !== key && c.text)?.text ?? "";
  return (
    <section className="mt-5">
      <h2 className="mb-1.5">
        Try a row{" "}
        <span className="ml-2 font-normal">
          <Blank
            title="Which row"
            label="Row"
            words={why.data?.row ?? "choose one"}
            open={open}
            onOpenChange={setOpen}
          >
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
      {why.data && <Why why={why.data} sheet={sheet} />}
    </section>
  );
}
