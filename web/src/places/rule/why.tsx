// Why a row gets or does not get its next email: each part of the sentence with
// the row's value, what comes next, and what has been.
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { http, type RuleBody, type Schemas, type Sheet, take } from "../../api/client";
import { keys } from "../../api/keys";
import { MarkIcon } from "../../parts/mark";
import { useNow } from "../../parts/session";
import { moment, upperFirst } from "../../parts/time";

export function useWhy(sheet: string, body: RuleBody | undefined, rule: string | undefined, row: string | undefined) {
  return useQuery({
    queryKey: [...keys.explain(sheet), body, rule, row],
    enabled: !!row && !!body,
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/rules/explain", {
          params: { path: { sheet } },
          body: { body: body as RuleBody, rule, row: row ?? "" },
        }),
      ),
  });
}

const colours = { yes: "text-juniper", no: "text-brick", unknown: "text-plum" };

/** ahead: also what comes, where it does not stand beside this already. */
export function Why({
  why,
  sheet,
  ahead = true,
}: {
  why: Schemas["Explanation"];
  sheet: Pick<Sheet, "zone">;
  ahead?: boolean;
}) {
  const now = useNow(60000);
  const mends = why.clauses.filter((c) => c.holds !== "yes" && c.mend);
  return (
    <>
      <ul className="flex flex-col gap-1">
        {why.clauses.map((c, i) => (
          <li key={i} className="grid grid-cols-[44px_minmax(0,3fr)_minmax(0,2fr)] gap-2.5">
            <span className={colours[c.holds]}>{c.holds}</span>
            <span>{c.text}</span>
            <span className="text-ink-2">{c.note}</span>
          </li>
        ))}
      </ul>
      <p className="mt-2.5 font-letter text-sm leading-[22px]">{why.summary}</p>
      {mends.length > 0 && (
        <p className="mt-1 text-ink-2">For an email to go: {mends.map((c) => c.mend).join("; ")}.</p>
      )}
      {ahead && why.coming.length > 0 && (
        <>
          <h2 className="mt-3 mb-1 text-xs font-[650] text-ink-2">What comes, as the row is now</h2>
          <ul>
            {why.coming.map((l, i) => (
              <li key={i} className="flex gap-3">
                <span className="w-32 flex-none">{moment(l.at, sheet.zone, now)}</span>
                {l.outcome === "incomplete" ? (
                  <span className="text-brick">{l.reason}</span>
                ) : (
                  <span>{l.subject}</span>
                )}
                {l.step > 0 && <span className="text-ink-2">follow-up {l.step}</span>}
              </li>
            ))}
          </ul>
        </>
      )}
      {why.past.length > 0 && (
        <>
          <h2 className="mt-3 mb-1 text-xs font-[650] text-ink-2">What has been</h2>
          <ul>
            {why.past.map((l) => (
              <li key={l.id} className="flex items-baseline gap-3">
                <span className="w-32 flex-none">{moment(l.at, sheet.zone, now)}</span>
                <MarkIcon letter={l.letter} kind={l.kind} />
                <Link to="/log" search={{ email: l.id, rule: l.ruleId, row: l.rowId }} className="hover:underline">
                  {l.subject || upperFirst(l.outcome)}
                </Link>
                {l.subject && <span className="text-ink-2">{l.outcome}</span>}
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}
