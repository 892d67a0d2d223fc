// What checking a letter over all rows came to, and how it arrives.
import type { Schemas } from "../../api/client";
import { MarkIcon } from "../../parts/mark";
import { Scroll } from "../../parts/scroll";
import { LetterFrame } from "../../parts/letter";
import { size } from "../../parts/size";
import { count } from "../../parts/time";
import type { Only } from "./leaf";

type Props = {
  checks?: Schemas["Checks"];
  says?: Schemas["LetterConsequence"][]; // in which emails the letter will be, once it is saved
  preview?: Schemas["Preview"];
  onRow: (row: string) => Promise<void>;
  onOnly: (o: Only) => void;
};
const levels = { stop: "bg-brick", warn: "bg-marigold-fill", note: "bg-ink-2" } as Record<string, string>;

export function Checks({ checks: c, says, preview: pv, onRow, onOnly }: Props) {
  return (
    <Scroll
      label="Checks and preview"
      className="w-[384px] flex-none px-5.5 pt-5 pb-6 max-lg:w-[300px] max-[899px]:w-full max-[899px]:px-0"
    >
      <h2>
        Checks{" "}
        {c && (
          <small className="ml-1 text-xs font-[450] text-ink-2">
            over {count(c.rows, "row")}
            {c.partial && ", the rest is coming"}
          </small>
        )}
      </h2>
      {c?.rows === 0 && (
        <p className="mt-1.5 text-ink-2">The sheet has no rows yet: nothing can be checked, and no row shown.</p>
      )}
      <ul className="mt-1.5 mb-4">
        {c?.checks.map((k) => (
          <li key={k.text} className="border-t border-hair-2 py-1.5">
            <div className="flex gap-2.5">
              <span className={`mt-[7px] size-[7px] flex-none ${levels[k.level] ?? "bg-juniper"}`} />
              <span>{k.text}</span>
              {k.rows > 0 && (
                <button
                  type="button"
                  className="link ml-auto whitespace-nowrap"
                  title="Leaf through these rows"
                  onClick={() => onOnly({ check: k.key })}
                >
                  {count(k.rows, "row")}
                </button>
              )}
            </div>
            {k.examples.length > 0 && (
              <div className="pl-[17px] text-ink-2">
                {k.examples.map((x) => (
                  <button
                    key={x.id}
                    type="button"
                    className="link mr-2.5 font-normal!"
                    onClick={() => void onRow(x.id)}
                  >
                    {x.name}
                  </button>
                ))}
                {k.rows > k.examples.length && "…"}
              </div>
            )}
          </li>
        ))}
      </ul>
      {says && says.length > 0 && <Says says={says} />}
      <Arrives preview={pv} />
    </Scroll>
  );
}

// Which of the emails foreseen the letter will be in, and what could not go.
function Says({ says }: { says: Schemas["LetterConsequence"][] }) {
  return (
    <>
      <h2>
        Once it is saved <small className="ml-1 text-xs font-[450] text-ink-2">in the coming 60 days</small>
      </h2>
      <ul className="mt-1.5 mb-4">
        {says.map((r) => (
          <li key={r.rule} className="flex gap-2.5 border-t border-hair-2 py-1.5">
            <MarkIcon letter={r.letter} kind="coming" />
            <span>
              {count(r.emails, "email")} of {r.name} {r.emails === 1 ? "says" : "say"} this
              {r.partial && ", as far as has been counted"}.
              {r.incomplete > r.before && (
                <span className="text-brick"> {count(r.incomplete - r.before, "more", "more")} could not go.</span>
              )}
              {r.incomplete < r.before && ` ${count(r.before - r.incomplete, "email")} can go that could not.`}
            </span>
          </li>
        ))}
      </ul>
    </>
  );
}

// The letter beside the one that is written: as narrow as on a phone.
function Arrives({ preview: pv }: { preview?: Schemas["Preview"] }) {
  return (
    <>
      <h2>
        As it arrives <small className="ml-1 text-xs font-[450] text-ink-2">on a phone</small>
      </h2>
      {pv && pv.total > 0 && (
        <div className="mt-1.5">
          <p className="border border-b-0 border-hair-2 bg-sheet px-3 py-2 font-semibold" data-testid="subject">
            {pv.subject || <span className="bad">no subject</span>}
          </p>
          <LetterFrame html={pv.html} title={`Email for ${pv.row}`} height={320} />
          {pv.attachments.length > 0 && (
            <p className="mt-1 text-ink-2">
              With it: {pv.attachments.map((a) => `${a.name} (${size(a.size)})`).join(", ")}
            </p>
          )}
          {pv.unmet && (
            <p className="mt-1.5 text-marigold">This row’s language is {pv.unmet}; the email is not written in it.</p>
          )}
          {pv.tooLarge && <p className="mt-1.5 text-brick">This email is too large to go: {pv.tooLarge}.</p>}
          {pv.missing.length > 0 && (
            <p className="mt-1.5 text-brick">
              For this row the email could not go: {pv.missing.join(" and ")}{" "}
              {pv.missing.length === 1 ? "has" : "have"} no value.
            </p>
          )}
        </div>
      )}
    </>
  );
}
