// What a baseline leaves as it is, row by row: all or some of it can be included,
// held until somebody has reviewed them.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { http, type Rule, type RuleBody, type Schemas, type Sheet, take, words } from "../../api/client";
import { keys } from "../../api/keys";
import { useMay, useNow } from "../../parts/session";
import { Slip } from "../../parts/slip";
import { count, moment } from "../../parts/time";

type Props = {
  sheet: Sheet;
  body: RuleBody;
  rule?: Rule;
  busy: boolean;
  chosen?: string[];
  onChosen: (rows: string[]) => void;
  onClose: () => void;
};

export function PastSlip({ sheet, body, rule, busy, chosen, onChosen, onClose }: Props) {
  const may = useMay("coordinator");
  const now = useNow(60000);
  const q = useQuery<Schemas["PastList"]>({
    queryKey: [...keys.effect(sheet.id), "past", body, rule?.id],
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/rules/past", {
          params: { path: { sheet: sheet.id } },
          body: { body, rule: rule?.id },
        }),
      ),
  });
  const [picked, setPicked] = useState(new Set(chosen));
  const on = rule?.state === "on";
  const lines = q.data?.lines ?? [];
  const rows = [...new Set(lines.map((l) => l.rowId))];
  const toggle = (row: string) =>
    setPicked((p) => {
      const next = new Set(p);
      if (!next.delete(row)) next.add(row);
      return next;
    });
  return (
    <Slip
      title="What stays as it is"
      onClose={onClose}
      wide
      head={
        <b className="text-ink">
          {rule?.state === "paused" ? "What passed while it was paused" : "What stays as it is"}
        </b>
      }
      foot={
        may && (
          <>
            <button
              type="button"
              className="act"
              disabled={busy || (picked.size === 0 && on)}
              onClick={() => onChosen([...picked])}
            >
              {on
                ? `Hold ${count(picked.size, "row")} for a look`
                : picked.size > 0
                  ? `Include ${count(picked.size, "row")}, held, once it is on`
                  : "Include none"}
            </button>
            <button
              type="button"
              className="link"
              onClick={() => setPicked(new Set(picked.size === rows.length ? [] : rows))}
            >
              {picked.size === rows.length ? "pick none" : "pick all"}
            </button>
          </>
        )
      }
    >
      <p className="mt-2 mb-2 text-ink-2">
        These are past or so already, so no email goes by themselves. Those that you pick are held until somebody has
        reviewed them.
      </p>
      {q.error && (
        <p role="alert" className="text-brick">
          {words(q.error)}
        </p>
      )}
      <ul>
        {lines.map((l, i) => (
          <li key={i} className="border-b border-hair-2 py-1">
            <label className="flex items-baseline gap-2.5">
              {may && (
                <input
                  type="checkbox"
                  className="accent-juniper"
                  checked={picked.has(l.rowId)}
                  onChange={() => toggle(l.rowId)}
                />
              )}
              <b className="w-20 flex-none font-[650]">{l.row}</b>
              <span className="w-32 flex-none">{moment(l.at, sheet.zone, now)}</span>
              {l.outcome === "skip" || l.outcome === "incomplete" ? (
                <span className="text-ink-2">{l.reason}</span>
              ) : (
                <span className="min-w-0 truncate">{l.subject}</span>
              )}
            </label>
          </li>
        ))}
      </ul>
      {q.data && q.data.total > lines.length && (
        <p className="mt-2 text-ink-2">
          The latest {lines.length.toLocaleString("en-GB")} of {q.data.total.toLocaleString("en-GB")}.
        </p>
      )}
    </Slip>
  );
}
