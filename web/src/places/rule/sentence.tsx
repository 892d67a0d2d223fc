// A date rule as a sentence whose blanks are filled; the other kinds are shown,
// and changed through the API or a bundle.
import { Link } from "@tanstack/react-router";
import type { RuleBody, Schemas, Sheet, Template } from "../../api/client";
import { Blank, Choices } from "../../parts/picker";
import { count } from "../../parts/time";
import { ConditionEditor } from "../sheets/condition";
import { Addresses, At, Every, When, Zone } from "./blanks";
import type { Effect } from "./effect";

type Trigger = RuleBody["trigger"];
type Part = {
  sheet: Sheet;
  body: RuleBody;
  phrases?: Schemas["Phrases"];
  may: boolean;
  put: (more: Partial<RuleBody>) => void;
};

/** Plain segments of a rule's sentence. */
export function Sentence({ of, className }: { of: Schemas["Segment"][]; className?: string }) {
  return <p className={className}>{of.map((x, i) => (x.strong ? <b key={i}>{x.text}</b> : <span key={i}>{x.text}</span>))}</p>;
}

export function DateSentence(p: Part & { templates: Template[]; effect?: Effect }) {
  const { sheet, body, phrases: ph, may, put, effect: e } = p;
  return (
    <p className="mb-3 font-letter text-[19px] leading-[34px]">
      <WhenBlanks {...p} />, for{" "}
      <Blank disabled={!may} title="Only rows where" label="Condition" words={ph?.condition ? `rows where ${ph.condition}` : "all rows"}>
        <ConditionEditor columns={sheet.columns} value={body.condition} onChange={(condition) => put({ condition })} />
        {e && (
          <p className="mt-3 text-right text-ink-2">
            {e.rows.toLocaleString("en-GB")} of {count(e.total, "row")}
          </p>
        )}
      </Blank>
      , write <TemplateBlank {...p} /> <PeopleBlanks {...p} />. Not later than{" "}
      <Blank disabled={!may} title="An email that could not go on time may still go for" label="Late limit" words={ph?.late || "a day"}>
        <Choices
          name="late"
          value={body.late ?? "PT24H"}
          onChoose={(late) => put({ late: late === "PT24H" ? undefined : late })}
          items={[
            { id: "PT1H", name: "an hour" },
            { id: "PT4H", name: "4 hours" },
            { id: "PT24H", name: "a day" },
            { id: "P3D", name: "3 days" },
            { id: "P1W", name: "a week" },
          ]}
        />
      </Blank>
      .
    </p>
  );
}

// When it is looked at: offsets, the date they hang on, how often, at what time, where.
function WhenBlanks({ sheet, body, phrases: ph, may, put }: Part) {
  const trigger = (more: Partial<Trigger>) => put({ trigger: { ...body.trigger, ...more } });
  const dates = sheet.columns.filter((c) => c.type === "date" || c.type === "moment");
  const anchor = sheet.columns.find((c) => c.id === body.trigger.column);
  const offsets = body.trigger.offsets ?? [];
  const ofDays = offsets.filter((o) => o.unit === "days" || o.unit === "working-days");
  return (
    <>
      <Blank disabled={!may} title="When" label="When" words={ph?.when || "…"}>
        <When offsets={offsets} hours={anchor?.type === "moment" && !body.trigger.at} onChange={(offsets) => trigger({ offsets })} />
      </Blank>{" "}
      <Blank disabled={!may} title="Before or after which date" label="Date" words={ph?.column || "…"}>
        <Choices
          name="column"
          value={body.trigger.column ?? ""}
          onChoose={(column) =>
            trigger({
              column,
              at: sheet.columns.find((c) => c.id === column)?.type === "moment" ? undefined : (body.trigger.at ?? "09:00"),
            })
          }
          items={dates.map((c) => ({ id: c.id, name: c.name, note: c.type }))}
        />
      </Blank>
      {body.trigger.every && (
        <>
          ,{" "}
          <Blank disabled={!may} title="How often the date comes round" label="Every" words={ph?.every || "…"}>
            <Every value={body.trigger.every} onChange={(every) => trigger({ every })} />
          </Blank>
          ,
        </>
      )}{" "}
      at{" "}
      <Blank disabled={!may} title="Time of day" label="Time" words={ph?.at || "…"}>
        <At
          value={body.trigger.at}
          moment={anchor?.type === "moment"}
          onChange={(at) => trigger({ at, offsets: !at ? offsets : ofDays.length > 0 ? ofDays : [{ n: -1, unit: "days" }] })}
        />
      </Blank>
      {body.zone && (
        <>
          {" "}
          in{" "}
          <Blank disabled={!may} title="Zone of the rule" label="Zone" words={body.zone}>
            <Zone value={body.zone} sheetZone={sheet.zone} onChange={(zone) => put({ zone })} />
          </Blank>
        </>
      )}
    </>
  );
}

function TemplateBlank({ sheet, body, may, put, templates }: Part & { templates: Template[] }) {
  const chosen = body.send[0]?.template;
  return (
    <Blank disabled={!may} title="Which template" label="Template" words={templates.find((t) => t.id === chosen)?.name ?? "…"}>
      {templates.length > 0 && (
        <Choices
          name="template"
          value={chosen}
          onChoose={(template) => put({ send: [{ template }] })}
          items={templates.map((t) => ({ id: t.id, name: t.name }))}
        />
      )}
      <Link to="/templates/$sheet/$template" params={{ sheet: sheet.id, template: "new" }} className="link mt-2 block">
        Write a new one
      </Link>
    </Blank>
  );
}

// To whom it goes, with copies and where answers go.
function PeopleBlanks({ sheet, body, phrases: ph, may, put }: Part) {
  const emails = sheet.columns.filter((c) => c.type === "email");
  return (
    <>
      to{" "}
      <Blank disabled={!may} title="To" label="To" words={ph?.to || "…"}>
        <Addresses columns={emails} value={body.to} onChange={(to) => put({ to })} />
      </Blank>
      {body.cc && (
        <>
          , copy to{" "}
          <Blank disabled={!may} title="Copy to" label="Copy" words={ph?.cc || "…"}>
            <Addresses columns={emails} value={body.cc} onChange={(cc) => put({ cc })} gone={() => put({ cc: undefined })} />
          </Blank>
        </>
      )}
      {body.replyTo && (
        <>
          , answers to{" "}
          <Blank disabled={!may} title="Answers go to" label="Answers" words={ph?.replyTo || "…"}>
            <Addresses
              columns={emails}
              value={body.replyTo}
              onChange={(replyTo) => put({ replyTo })}
              gone={() => put({ replyTo: undefined })}
            />
          </Blank>
        </>
      )}
    </>
  );
}

/** What can still be said in the sentence. */
export function MorePhrases({ sheet, body, put }: Pick<Part, "sheet" | "body" | "put">) {
  const more: [boolean, string, () => void][] = [
    [!body.cc, "with a copy to …", () => put({ cc: [] })],
    [!body.replyTo, "answers to …", () => put({ replyTo: [] })],
    [!body.trigger.every, "every year …", () => put({ trigger: { ...body.trigger, every: { unit: "years", n: 1 } } })],
    [!body.zone, "in another zone …", () => put({ zone: sheet.zone })],
  ];
  return (
    <div className="flex flex-wrap gap-x-4 gap-y-1.5 border-t border-hair-2 pt-3 text-ink-2">
      {more.map(
        ([open, words, run]) =>
          open && (
            <button key={words} type="button" className="border-b border-dotted border-ink-2" onClick={run}>
              {words}
            </button>
          ),
      )}
    </div>
  );
}
