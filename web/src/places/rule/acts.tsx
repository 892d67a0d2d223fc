// Saving a rule, switching it on and off, taking it away.
import { Link, useNavigate } from "@tanstack/react-router";
import { Popover } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import { http, type Rule, type RuleBody, type Schemas, type Sheet } from "../../api/client";
import { keys, ofSheet } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Confirm } from "../../parts/confirm";
import { Leaving, useLeaving } from "../../parts/draft";
import { Overtaken, type useOpened } from "../../parts/opened";
import { useKey } from "../../parts/shortcuts";
import { count } from "../../parts/time";
import { WriteState } from "../../parts/writestate";
import type { Effect } from "./effect";
import { reacts, tidy } from "./model";
import { PastSlip } from "./past";
import { Sentence } from "./said";

type Said = Schemas["RuleSaid"];
type ActsProps = {
  sheet: Sheet;
  rule?: Rule;
  opened: ReturnType<typeof useOpened<Rule, RuleBody>>;
  effect?: Effect;
  said?: Said;
  may: boolean;
  onKept: () => void; // what is drawn up is saved, or gone
  suggested: string; // its name, as long as nobody gives it one
  onFaulty: () => void; // shows the rows that cannot be judged
  beside: boolean; // a template is written beside it, whose Save the key means
};

export function Acts({ sheet, rule, opened, effect: e, said, may, onKept, onFaulty, suggested, beside }: ActsProps) {
  const navigate = useNavigate();
  const { mine, changed } = opened;
  const body = mine.name.trim() ? mine : { ...mine, name: suggested };
  const [acting, setActing] = useState(false);
  const path = { sheet: sheet.id, rule: rule?.id ?? "" };
  const changes = [...ofSheet(sheet.id), keys.templates];
  const leaving = useLeaving(changed && may);
  const after = (r: Rule) => {
    opened.saved(r);
    if (!rule && leaving.blocker.status !== "blocked")
      leaving.pass(() =>
        navigate({ to: "/sheets/$sheet/rules/$rule", params: { sheet: sheet.id, rule: r.id }, replace: true }),
      );
  };
  const save = useWrite<RuleBody, Rule>({
    write: (body) =>
      rule
        ? http.PUT("/sheets/{sheet}/rules/{rule}", {
            params: { path },
            body: { body: tidy(body), version: opened.version },
          })
        : http.POST("/sheets/{sheet}/rules", { params: { path: { sheet: sheet.id } }, body: { body: tidy(body) } }),
    changes,
    after: (r, sent) => {
      if (!mine.name.trim()) opened.edit((b) => ({ ...b, name: sent.name }));
      opened.saved(r, sent);
      onKept();
    },
    quiet: true,
  });
  const turn = useWrite<{ rule: string; state: "on" | "paused" }, Rule>({
    write: (v) =>
      http.PUT("/sheets/{sheet}/rules/{rule}/state", {
        params: { path: { sheet: sheet.id, rule: v.rule } },
        body: { state: v.state },
      }),
    changes,
    after,
    quiet: true,
  });
  const remove = useWrite({
    write: () => http.DELETE("/sheets/{sheet}/rules/{rule}", { params: { path } }),
    changes,
    saved: "The rule is deleted. For 30 days it can be restored, below the rules of the sheet.",
    undo: () => http.POST("/sheets/{sheet}/rules/{rule}/restore", { params: { path } }),
    after: () => {
      onKept();
      leaving.pass(() => navigate({ to: "/sheets/$sheet", params: { sheet: sheet.id } }));
    },
    quiet: true,
  });
  const include = useWrite<{ rule: string; rows?: string[] }, { emails: number }>({
    write: (v) =>
      http.POST("/sheets/{sheet}/rules/{rule}/past", {
        params: { path: { sheet: sheet.id, rule: v.rule } },
        body: { rows: v.rows },
      }),
    changes,
    saved: (r) => `${count(r.emails, "email is", "emails are")} held until somebody has reviewed them.`,
  });
  const [past, setPast] = useState(false);
  const [deleting, setDeleting] = useState(false);
  const [chosen, setChosen] = useState<string[]>(); // rows of what is past, to be included once it is on
  const state = rule?.state ?? "draft";
  const underWay = acting || save.busy || turn.busy || remove.busy;
  const whole = said?.faults.length === 0;
  const busy = underWay || opened.newer !== undefined;
  const saveOnly = async () => {
    const r = await save.do(body);
    if (!r) return undefined;
    if (state === "on") toast.success("Saved. What was past by now stays as it is.");
    after(r);
    return r;
  };
  // A rule is saved before it is switched on, so that what stands on the page goes on.
  const switchTo = async (to: "on" | "paused") => {
    setActing(true);
    const r = to === "on" && (changed || !rule) ? await save.do(body) : rule;
    const turned = r && (await turn.do({ rule: r.id, state: to }));
    if (turned && to === "on" && chosen?.length) {
      await include.do({ rule: turned.id, rows: chosen });
      setChosen(undefined);
    }
    if (r && !turned && !rule) after(r); // it is saved all the same
    setActing(false);
  };
  const maySave = may && !busy && (changed || !rule) && whole;
  useKey("ctrl+s", () => maySave && void saveOnly(), may && !beside);
  const live = e && !e.problem ? e : undefined;
  const dated = !reacts(body.trigger.kind) && body.trigger.kind !== "by-hand";
  return (
    <div className="mt-auto pt-6">
      {opened.newer && !underWay && said && (
        <Overtaken
          what="rule"
          theirs={<Side name={opened.newer.body.name} of={opened.newer.sentence} other={said.sentence} />}
          mine={<Side name={body.name} of={said.sentence} other={opened.newer.sentence} />}
          onTheirs={opened.takeTheirs}
          onMine={opened.keepMine}
        />
      )}
      {rule?.broken && (
        <p role="alert" className="text-brick">
          It is paused: {rule.broken}.
        </p>
      )}
      {rule?.arming && (
        <p role="status" className="flex flex-wrap items-center gap-x-3 text-marigold">
          <progress
            className="w-40 accent-juniper"
            max={rule.arming.total}
            value={rule.arming.done}
            aria-label="Rows calculated"
          />
          <span>
            It is being prepared: {rule.arming.done.toLocaleString("en-GB")} of {count(rule.arming.total, "row")} are
            calculated.
          </span>
          {may && (
            <button type="button" className="link" disabled={busy} onClick={() => void switchTo("paused")}>
              Stop, and leave it paused
            </button>
          )}
        </p>
      )}
      <Leaving of={leaving} what="rule" onSave={maySave ? saveOnly : undefined} />
      <p className="min-h-5">
        <WriteState
          of={[save, turn, remove]}
          doing={turn.busy || acting ? "Switching …" : remove.busy ? "Deleting …" : undefined}
        />
      </p>
      {may && (
        <div className="mt-2 flex flex-wrap items-center gap-3">
          {state !== "on" && (
            <button
              type="button"
              className="act"
              disabled={busy || !whole || !live}
              onClick={() => void switchTo("on")}
            >
              {state === "paused" ? "Resume" : "Switch on"}
              {live && dated && `: ${count(live.emails, "email")} in 60 days`}
            </button>
          )}
          <button
            type="button"
            className={state === "on" ? "act" : "act-plain"}
            disabled={!maySave}
            onClick={() => void saveOnly()}
          >
            Save
            {state === "on" && changed && live?.change && saves(live.change)}
            <kbd className="key" aria-hidden>
              Ctrl S
            </kbd>
          </button>
          {state === "on" && (
            <button type="button" className="act-plain" disabled={busy} onClick={() => void switchTo("paused")}>
              Pause
              {live && dated && !changed && live.emails > 0 && `: ${count(live.emails, "email")} in 60 days do not go`}
            </button>
          )}
          {live && live.unjudged > 0 && (
            <button type="button" className="needs" onClick={onFaulty}>
              {count(live.unjudged, "row")} cannot be judged
            </button>
          )}
          {live && (
            <WhatStays
              effect={live}
              state={state}
              changed={changed}
              kind={body.trigger.kind}
              chosen={chosen?.length ?? 0}
              onList={() => setPast(true)}
            />
          )}
        </div>
      )}
      {may && rule && (
        <div className="print:hidden mt-3 flex flex-wrap items-center gap-4 border-t border-hair-2 pt-3">
          <CopyRule sheet={sheet} rule={rule} busy={busy} />
          {(rule.held ?? 0) > 0 && (
            <Link to="/sheets/$sheet/held/$rule" params={{ sheet: sheet.id, rule: rule.id }} className="needs">
              {count(rule.held ?? 0, "email waits", "emails wait")} for you
            </Link>
          )}
          {state !== "on" && (
            <button
              type="button"
              className="link ml-auto text-brick!"
              onClick={() => setDeleting(true)}
              disabled={busy}
            >
              Delete …
            </button>
          )}
        </div>
      )}
      {deleting && rule && (
        <Confirm
          title={`Delete rule ${rule.letter}, ${rule.body.name}?`}
          act={`Delete the rule${(rule.held ?? 0) > 0 ? `, skip ${count(rule.held ?? 0, "email")}` : ""}`}
          busy={remove.busy}
          onNo={() => setDeleting(false)}
          onYes={() => {
            setDeleting(false);
            void remove.do();
          }}
        >
          <p>
            {rule.counts.accepted
              ? `The ${count(rule.counts.accepted, "email")} that it has sent ${rule.counts.accepted === 1 ? "stays" : "stay"} in the log. `
              : "It has sent nothing. "}
            {(rule.held ?? 0) > 0 &&
              `${count(rule.held ?? 0, "email")} that ${rule.held === 1 ? "waits is" : "wait are"} skipped.`}
          </p>
          <p className="mt-1 text-ink-2">For 30 days it can be restored, below the rules of the sheet.</p>
        </Confirm>
      )}
      {past && (
        <PastSlip
          sheet={sheet}
          body={body}
          rule={rule}
          busy={include.busy}
          chosen={chosen}
          onChosen={(rows) => {
            setPast(false);
            if (state === "on" && rule) void include.do({ rule: rule.id, rows });
            else setChosen(rows);
          }}
          onClose={() => setPast(false)}
        />
      )}
    </div>
  );
}

function saves(c: Schemas["EffectChange"]): string {
  if (c.new + c.gone === 0) return ": no email changes";
  return `: ${c.new.toLocaleString("en-GB")} are new, ${c.gone.toLocaleString("en-GB")} no longer go`;
}

// One of two writings of a rule; what the other does not say stands out.
function Side({ name, of, other }: { name: string; of: Schemas["Segment"][]; other: Schemas["Segment"][] }) {
  const there = new Map(other.map((s) => [s.place, s.text]));
  return (
    <>
      <p className="font-[650]">{name}</p>
      <Sentence
        of={of}
        className="font-letter text-[15px] leading-6"
        differs={(s) => !!s.place && there.get(s.place) !== s.text}
      />
    </>
  );
}

type StaysProps = {
  effect: Effect;
  state: Rule["state"];
  changed: boolean;
  kind: string;
  chosen: number;
  onList: () => void;
};
function WhatStays({ effect: e, state, changed, kind, chosen, onList }: StaysProps) {
  if (kind === "by-hand") return null;
  const words =
    kind === "date"
      ? `${count(e.past, "past date stays", "past dates stay")} as ${e.past === 1 ? "it is" : "they are"}`
      : `${count(e.past, "row is", "rows are")} so already and ${e.past === 1 ? "stays as it is" : "stay as they are"}`;
  return (
    <span className="text-ink-2">
      {state === "on" && changed && "What went out does not go again. "}
      {e.past === 0
        ? kind === "date" && state !== "on" && "No date is past."
        : (state !== "on" || !changed) && (
            <>
              <button type="button" className="figure text-left" onClick={onList}>
                {words}
              </button>
              {chosen > 0 ? `, but ${count(chosen, "row")} of them, held for review.` : "."}
            </>
          )}
    </span>
  );
}

// A copy is a new rule: what the first has sent, it may send again, unless it
// takes the history over.
function CopyRule({ sheet, rule, busy }: { sheet: Sheet; rule: Rule; busy: boolean }) {
  const navigate = useNavigate();
  const copy = useWrite<boolean, Rule>({
    write: (history) =>
      http.POST("/sheets/{sheet}/rules/{rule}/copy", {
        params: { path: { sheet: sheet.id, rule: rule.id } },
        body: { history },
      }),
    changes: ofSheet(sheet.id),
    after: (r) => void navigate({ to: "/sheets/$sheet/rules/$rule", params: { sheet: sheet.id, rule: r.id } }),
  });
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <button type="button" className="link" disabled={busy || copy.busy}>
          Copy this rule …
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          aria-label="Copy this rule"
          className="pop w-80 p-3.5 text-[13px]"
          sideOffset={6}
          align="start"
          collisionPadding={12}
        >
          <p className="mb-2.5">
            A copy is a new rule, off at first. Is what this one has sent already done for the copy too?
          </p>
          <div className="flex flex-col items-start gap-2">
            <button type="button" className="act-plain" onClick={() => void copy.do(true)}>
              Copy, with its history
            </button>
            <button type="button" className="act-plain" onClick={() => void copy.do(false)}>
              Copy, and begin anew
            </button>
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
