// A rule as its sentence, which the server says clause by clause, each clause a
// blank that opens.
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Popover } from "radix-ui";
import { Clause, type Editing } from "./clauses";
import { changeOf, meets, moreOf } from "./model";
import { paragraphs, Sentence } from "./said";

type Segment = Schemas["Segment"];
type Fault = Schemas["RuleFault"];

type Props = Omit<Editing, "go"> & { sentence: Segment[]; faults: Fault[]; said: boolean; may: boolean };

/** The sentence whose clauses are blanks; below it what can still be said, and
 * what is still missing. */
export function SentenceEditor({ sentence, faults, said, may, ...editing }: Props) {
  const [open, setOpen] = useState<string>();
  // Where the sheet has no template yet there is nothing to choose from: one is written at once.
  const openAt = (place?: string) => {
    if (place?.endsWith("/template") && editing.templates.length === 0) editing.write(place, undefined, "");
    else setOpen(place);
  };
  const faultOf = (place: string) => faults.find((f) => meets(f.field, place))?.message;
  const shown = faults.filter((f) => f.field !== "/name");
  const { body, sheet, put } = editing;
  if (!may) return <Sentence of={sentence} className="mb-4 font-letter text-[19px] leading-[34px]" />;
  return (
    <>
      {paragraphs(sentence).map((p, i) => (
        <p key={i} className="mb-3 font-letter text-[19px] leading-[34px]">
          {joined(p).map(({ segment: x, tail }, k) =>
            x.place ? (
              <span key={x.place} className="whitespace-nowrap">
                <ClauseBlank
                  segment={x}
                  place={x.place}
                  fault={said ? faultOf(x.place) : undefined}
                  open={open === x.place}
                  onOpen={(on) => openAt(on ? x.place : undefined)}
                  editing={{ ...editing, go: setOpen }}
                />
                {tail}
              </span>
            ) : (
              <span key={k}>{x.text}</span>
            ),
          )}
        </p>
      ))}
      {said && shown.length > 0 && (
        <ul className="mb-3" aria-label="Still missing">
          {shown.map((f) => (
            <li key={f.field} className="text-marigold">
              <FaultLine
                fault={f}
                onOpen={() => openAt(sentence.find((s) => s.place && meets(f.field, s.place))?.place)}
              />
            </li>
          ))}
        </ul>
      )}
      <div className="print:hidden flex flex-wrap gap-x-4 gap-y-1.5 border-t border-hair-2 pt-3 text-ink-2">
        {moreOf(body, sheet).map((m) => (
          <button
            key={m.words}
            type="button"
            className="border-b border-dotted border-ink-2"
            onClick={() => {
              put(changeOf(body, m.add(body)));
              setOpen(m.place);
            }}
          >
            {m.words}
          </button>
        ))}
      </div>
    </>
  );
}

// Each segment with the mark that follows it, which must not begin a line.
function joined(of: Segment[]): { segment: Segment; tail: string }[] {
  const out: { segment: Segment; tail: string }[] = [];
  for (const s of of) {
    const before = out[out.length - 1];
    const mark = /^[,.;]+/.exec(s.text)?.[0];
    if (before?.segment.place && !s.place && mark) {
      before.tail = mark;
      out.push({ segment: { ...s, text: s.text.slice(mark.length) }, tail: "" });
    } else out.push({ segment: s, tail: "" });
  }
  return out;
}

function FaultLine({ fault, onOpen }: { fault: Fault; onOpen: () => void }) {
  return (
    <button type="button" className="text-left underline decoration-dotted underline-offset-3" onClick={onOpen}>
      {fault.message.charAt(0).toUpperCase() + fault.message.slice(1)}.
    </button>
  );
}

type BlankProps = {
  segment: Segment;
  place: string;
  fault?: string;
  open: boolean;
  onOpen: (on: boolean) => void;
  editing: Editing;
};
function ClauseBlank({ segment, place, fault, open, onOpen, editing }: BlankProps) {
  return (
    <Popover.Root open={open} onOpenChange={onOpen}>
      <Popover.Trigger asChild>
        <button
          type="button"
          className={`blank ${segment.strong ? "" : "blank-lead"} ${fault ? "blank-open" : ""}`}
          data-place={place}
          aria-describedby={fault ? `fault-${place}` : undefined}
        >
          {segment.text}
          {fault && (
            <span id={`fault-${place}`} className="sr-only">
              {fault}
            </span>
          )}
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          className="pop max-h-[var(--radix-popover-content-available-height)] min-w-64 overflow-auto p-3.5 text-[13px]"
          aria-label={segment.text}
          sideOffset={6}
          align="start"
          collisionPadding={12}
        >
          <Clause {...editing} place={place} fault={fault} unsaid={segment.text.includes("…")} />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
