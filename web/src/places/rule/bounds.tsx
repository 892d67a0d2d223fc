// Within what limits a rule's emails go: hours and days, how often, how late,
// held or not.
import type { RuleBody } from "../../api/client";
import { DurationField, NumberField } from "../../parts/fields";
import { Choices } from "../../parts/picker";
import { apartIn, type Window } from "./model";

const days = [
  ["mon", "Monday"],
  ["tue", "Tuesday"],
  ["wed", "Wednesday"],
  ["thu", "Thursday"],
  ["fri", "Friday"],
  ["sat", "Saturday"],
  ["sun", "Sunday"],
] as const;

export function WindowBlank({ value, onChange }: { value: Window; onChange: (w: Window) => void }) {
  const on = value.weekdays ?? [];
  return (
    <div className="flex flex-col gap-2.5">
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          className="accent-juniper"
          checked={!!value.workingDays}
          onChange={(e) => onChange({ ...value, workingDays: e.target.checked || undefined })}
        />
        on working days only
      </label>
      <fieldset className="flex flex-wrap gap-x-2.5 gap-y-1">
        <legend className="mb-1 text-ink-2">
          {on.length === 0 ? "On any day of the week, or only on" : "Only on"}
        </legend>
        {days.map(([id, name]) => (
          <label key={id} className="flex items-center gap-1">
            <input
              type="checkbox"
              className="accent-juniper"
              aria-label={name}
              checked={on.includes(id)}
              onChange={(e) => {
                const next = days.map(([d]) => d).filter((d) => (d === id ? e.target.checked : on.includes(d)));
                onChange({ ...value, weekdays: next.length > 0 ? next : undefined });
              }}
            />
            {name.slice(0, 3)}
          </label>
        ))}
      </fieldset>
      <span className="flex items-center gap-2">
        from{" "}
        <input
          type="time"
          className="field"
          aria-label="From"
          value={value.from ?? ""}
          onChange={(e) => onChange({ ...value, from: e.target.value || undefined })}
        />{" "}
        until{" "}
        <input
          type="time"
          className="field"
          aria-label="Until"
          value={value.until ?? ""}
          onChange={(e) => onChange({ ...value, until: e.target.value || undefined })}
        />
      </span>
    </div>
  );
}

export function ShiftBlank({ value, onChange }: { value?: string; onChange: (s: string | undefined) => void }) {
  return (
    <Choices
      name="What falls outside goes"
      value={value ?? "later"}
      onChoose={(s) => onChange(s === "later" ? undefined : s)}
      items={[
        { id: "later", name: "at the next such time" },
        { id: "earlier", name: "at the last such time before" },
        { id: "none", name: "all the same" },
      ]}
    />
  );
}

export function RepeatBlank({ value, onChange }: { value: unknown; onChange: (r: unknown) => void }) {
  const apart = apartIn(value);
  return (
    <div className="flex flex-col gap-2">
      <Choices
        name="How often to one row"
        value={apart === undefined ? "once" : "apart"}
        onChoose={(x) => onChange(x === "once" ? "once-per-row" : { "not-more-often-than": "P30D" })}
        items={[
          { id: "apart", name: "not again within" },
          { id: "once", name: "only once per row" },
        ]}
      />
      {apart !== undefined && (
        <DurationField
          label="Not again within"
          value={apart}
          onChange={(d) => onChange({ "not-more-often-than": d })}
        />
      )}
    </div>
  );
}

export function HoldBlank({ value, onChange }: { value?: string; onChange: (h: string) => void }) {
  return (
    <Choices
      name="What is held until somebody has reviewed it"
      value={value}
      onChoose={onChange}
      items={[
        { id: "first-run", name: "the first run" },
        { id: "always", name: "each email" },
      ]}
    />
  );
}

export function BrakeBlank({
  value,
  onChange,
}: {
  value: NonNullable<RuleBody["brake"]>;
  onChange: (b: NonNullable<RuleBody["brake"]>) => void;
}) {
  return (
    <div className="flex flex-col gap-2">
      <span className="flex items-center gap-2">
        more than{" "}
        <NumberField
          label="Emails"
          className="w-18"
          whole
          min={1}
          max={100000}
          value={value.count}
          onChange={(count) => onChange({ ...value, count })}
        />{" "}
        emails in ten minutes
      </span>
      <span className="flex items-center gap-2">
        or than{" "}
        <NumberField
          label="Percent of the rows"
          className="w-18"
          min={0.1}
          max={100}
          value={Number((value.share * 100).toPrecision(12))}
          onChange={(n) => onChange({ ...value, share: Number((n / 100).toPrecision(12)) })}
        />{" "}
        % of the sheet’s rows, and at least ten
      </span>
    </div>
  );
}
