import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, http, type Rule } from "../../api/client";
import { keys, ofSheet } from "../../api/keys";
import { useWrite } from "../../api/write";
import { MarkIcon } from "../../parts/mark";
import { Scroll } from "../../parts/scroll";
import { count, moment } from "../../parts/time";
import { Sentence } from "../rule/said";
import { Feeds } from "./feeds";

// The margin: the rules of the sheet, each a sentence.
export function Margin({
  sheet,
  rules,
  zone,
  now,
  may,
  onLight,
}: {
  sheet: string;
  rules: Rule[];
  zone: string;
  now: Date;
  may: boolean;
  onLight: (r: string | null) => void;
}) {
  const [folded, setFolded] = useState(localStorage.getItem("margin") === "folded");
  const fold = () => {
    localStorage.setItem("margin", folded ? "" : "folded");
    setFolded(!folded);
  };
  if (folded)
    return (
      <aside className="flex-none border-l border-hair px-2 py-3 max-[899px]:hidden" aria-label="Rules on this sheet">
        <button type="button" className="link [writing-mode:vertical-rl]" onClick={fold}>
          Rules ({rules.length})
        </button>
      </aside>
    );
  return (
    <Scroll
      label="Rules on this sheet"
      className="w-[298px] flex-none border-l border-hair px-[18px] py-3.5 max-[899px]:hidden"
    >
      <div className="mb-2 flex">
        <h2 className="text-xs! text-ink-2">Rules on this sheet</h2>
        <button type="button" className="link ml-auto" onClick={fold}>
          Hide
        </button>
      </div>
      <Rules sheet={sheet} rules={rules} zone={zone} now={now} may={may} onLight={onLight} />
    </Scroll>
  );
}

type RulesProps = {
  sheet: string;
  rules: Rule[];
  zone: string;
  now: Date;
  may: boolean;
  onLight: (r: string | null) => void;
};

/** The rules of a sheet, each a sentence, and what else is done with them. */
export function Rules({ sheet, rules, zone, now, may, onLight }: RulesProps) {
  const arming = rules.filter((r) => r.arming).map((r) => r.body.name);
  // That it is done is told too.
  const preparing = arming.join(", ");
  const [prepared, setPrepared] = useState("");
  if (preparing && preparing !== prepared) setPrepared(preparing);
  const order = useWrite<string[]>({
    write: (ids) => http.PUT("/sheets/{sheet}/rules/order", { params: { path: { sheet } }, body: { rules: ids } }),
    changes: [keys.rules],
  });
  return (
    <>
      <p role="status" className="sr-only">
        {preparing ? `Being prepared: ${preparing}` : prepared && `Prepared: ${prepared}`}
      </p>
      {rules.map((r, i) => (
        <RuleLine
          key={r.id}
          sheet={sheet}
          rule={r}
          zone={zone}
          now={now}
          may={may}
          onLight={onLight}
          onUp={may && i > 0 ? () => void order.do(swapped(rules, i - 1)) : undefined}
        />
      ))}
      {rules.length === 0 && (
        <p className="border-t border-hair-2 py-3 text-ink-2">
          No rule yet. A rule says when a row deserves an email, and to whom it goes.
        </p>
      )}
      {may && (
        <div className="border-t border-hair-2 pt-2.5">
          <Link to="/sheets/$sheet/rules/$rule" params={{ sheet, rule: "new" }} className="link">
            Add a rule
          </Link>
          <Deleted sheet={sheet} />
          <Feeds sheet={sheet} rules={rules} />
        </div>
      )}
    </>
  );
}

// The order in which the i-th rule stands below the next one.
function swapped(rules: Rule[], i: number): string[] {
  const ids = rules.map((r) => r.id);
  return [...ids.slice(0, i), ...ids.slice(i, i + 2).reverse(), ...ids.slice(i + 2)];
}

// Rules that were deleted lately, to be brought back.
function Deleted({ sheet }: { sheet: string }) {
  const q = api.useQuery("get", "/sheets/{sheet}/rules/deleted", { params: { path: { sheet } } });
  const back = useWrite<string, Rule>({
    write: (rule) => http.POST("/sheets/{sheet}/rules/{rule}/restore", { params: { path: { sheet, rule } } }),
    changes: [...ofSheet(sheet), ["get", "/sheets/{sheet}/rules/deleted"]],
    saved: (r) => `${r.body.name} is back, ${r.state === "draft" ? "not on yet" : "paused"}.`,
  });
  if (!q.data?.length) return null;
  return (
    <details className="mt-2 text-ink-2">
      <summary className="cursor-pointer">{count(q.data.length, "deleted rule")}</summary>
      <ul>
        {q.data.map((r) => (
          <li key={r.id} className="flex items-baseline gap-2 py-1">
            <span className="min-w-0 flex-1 truncate" title={r.name}>
              {r.letter}, {r.name}
            </span>
            <button type="button" className="link" disabled={back.busy} onClick={() => void back.do(r.id)}>
              Restore
            </button>
          </li>
        ))}
      </ul>
    </details>
  );
}

type LineProps = {
  sheet: string;
  rule: Rule;
  zone: string;
  now: Date;
  may: boolean;
  onLight: (r: string | null) => void;
  onUp?: () => void; // to stand above the one before it
};

// A rule in the margin; pointing at it lights its marks in the rows.
function RuleLine({ sheet, rule: r, zone, now, may, onLight, onUp }: LineProps) {
  const state = r.state === "on" ? "paused" : "on";
  const turn = useWrite({
    write: () =>
      http.PUT("/sheets/{sheet}/rules/{rule}/state", { params: { path: { sheet, rule: r.id } }, body: { state } }),
    changes: ofSheet(sheet),
  });
  return (
    <section
      className="border-t border-hair-2 pt-2.5 pb-3"
      onMouseEnter={() => onLight(r.id)}
      onMouseLeave={() => onLight(null)}
    >
      <div className="mb-1 flex items-center gap-2">
        <MarkIcon
          letter={r.letter}
          kind={r.state === "on" ? "accepted" : r.state === "paused" ? "held" : "incomplete"}
        />
        <Link to="/sheets/$sheet/rules/$rule" params={{ sheet, rule: r.id }} className="font-[650] hover:underline">
          {r.body.name}
        </Link>
        <span className="ml-auto text-xs text-ink-2">{r.state}</span>
        {may && r.state !== "draft" && (
          <button type="button" className="link text-xs" disabled={turn.busy} onClick={() => void turn.do()}>
            {r.state === "on" ? "pause" : "resume"}
          </button>
        )}
      </div>
      <Sentence
        of={r.sentence}
        className={`mb-1.5 font-letter text-[13.5px] leading-5 [&_b]:font-semibold ${r.state === "on" ? "" : "text-ink-2"}`}
      />
      {r.body.note && <p className="mb-1 text-xs whitespace-pre-line text-ink-2">{r.body.note}</p>}
      {r.broken && <p className="mb-1 text-xs text-brick">Paused: {r.broken}.</p>}
      {(r.unjudged ?? 0) > 0 && (
        <p className="mb-1 text-xs">
          <Link
            to="/sheets/$sheet"
            params={{ sheet }}
            search={{ show: { only: { rows: "unjudged", rule: r.id } } }}
            className="needs"
          >
            {count(r.unjudged ?? 0, "row")} cannot be judged
          </Link>
        </p>
      )}
      {(r.held ?? 0) > 0 && (
        <p className="mb-1 text-xs">
          <Link to="/sheets/$sheet/held/$rule" params={{ sheet, rule: r.id }} className="needs">
            {count(r.held ?? 0, "email waits", "emails wait")} for you
          </Link>
        </p>
      )}
      <p className="flex text-xs text-ink-2">
        {waits(r, zone, now)}
        {onUp && (
          <button type="button" className="link ml-auto text-xs" aria-label={`Move ${r.body.name} up`} onClick={onUp}>
            up
          </button>
        )}
      </p>
    </section>
  );
}

// What a rule looks at next, or waits for.
function waits(r: Rule, zone: string, now: Date): string {
  if (r.arming) return `Calculating ${r.arming.done.toLocaleString("en-GB")} of ${count(r.arming.total, "row")}`;
  if (r.state === "draft") return "Not switched on yet";
  if (r.state === "paused") return "Paused; nothing goes out";
  if (r.nextAt) return `Checks next ${moment(r.nextAt, zone, now)} at ${count(r.nextRows ?? 0, "row")}`;
  switch (r.body.trigger.kind) {
    case "date":
      return "No row has a coming date";
    case "schedule":
      return "Its schedule has ended";
    case "by-hand":
      return "Sent by hand";
    default:
      return "Waits for an edit";
  }
}
