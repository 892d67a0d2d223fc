import { useState } from "react";
import { api, http, type Schemas, type Sheet } from "../../api/client";
import { ofSheet } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Section } from "../../parts/slip";
import { count } from "../../parts/time";
import { AskTurn, setsNothing } from "./sets";

// Which column identifies a row, carries its address, the name and the
// language: said once, and taken everywhere unless said otherwise.
export function Roles({ sheet }: { sheet: Sheet }) {
  const calendars = api.useQuery("get", "/calendars");
  const patch = useWrite({
    write: (body: Schemas["SheetPatch"]) =>
      http.PATCH("/sheets/{sheet}", { params: { path: { sheet: sheet.id } }, body }),
    changes: ofSheet(sheet.id),
  });
  const save = (body: Schemas["SheetPatch"]) => void patch.do(body);
  const [asked, setAsked] = useState<{ what: string; body: Schemas["SheetPatch"]; sets: Schemas["Consequences"] }>();
  const tell = useWrite({
    write: (body: Schemas["SheetPatch"]) =>
      http.POST("/sheets/{sheet}/consequences", { params: { path: { sheet: sheet.id } }, body }),
  });
  // What changes emails is told before it is done.
  const turn = async (what: string, body: Schemas["SheetPatch"]) => {
    const sets = await tell.do(body);
    if (!sets) return;
    if (setsNothing(sets)) save(body);
    else setAsked({ what, body, sets });
  };
  // What is asked about, or on its way, is shown as it will be.
  const shown = { ...sheet, ...asked?.body, ...patch.going };
  const pick = (
    label: string,
    value: string,
    of: (c: Sheet["columns"][number]) => boolean,
    on: (id: string) => void,
    none: string,
  ) => (
    <label className="flex items-center justify-between gap-3 py-0.5">
      {label}
      <select className="field w-56" value={value} onChange={(e) => on(e.target.value)}>
        <option value="">{none}</option>
        {sheet.columns.filter(of).map((c) => (
          <option key={c.id} value={c.id}>
            {c.name}
          </option>
        ))}
      </select>
    </label>
  );
  const kind = (c: Sheet["columns"][number]) => (c.type === "formula" ? c.result : c.type);
  return (
    <Section title="What says what a row is">
      {pick(
        "The row is identified by",
        shown.key,
        (c) => c.type !== "formula",
        (key) => save({ key }),
        "no column",
      )}
      {pick(
        "Its address stands in",
        shown.address,
        (c) => kind(c) === "email",
        (address) => save({ address }),
        "no column",
      )}
      {pick(
        "The name of whom it concerns",
        shown.nameColumn,
        (c) => kind(c) === "text",
        (nameColumn) => save({ nameColumn }),
        "no column",
      )}
      {pick(
        "Their language",
        shown.languageColumn,
        (c) => kind(c) === "choice" || kind(c) === "text",
        (languageColumn) => save({ languageColumn }),
        "no column",
      )}
      <label className="flex items-center justify-between gap-3 py-0.5">
        Working days go by
        <select
          className="field w-56"
          value={tell.going?.calendar ?? shown.calendar}
          onChange={(e) => void turn("Another working calendar?", { calendar: e.target.value })}
        >
          {(calendars.data ?? []).map((c) => (
            <option key={c.id} value={c.isDefault ? "" : c.id}>
              {c.name}
            </option>
          ))}
        </select>
      </label>
      <label className="flex items-center justify-between gap-3 py-0.5">
        Its time zone
        <input
          className="field w-56"
          list="sheet-zones"
          key={shown.zone}
          defaultValue={shown.zone}
          onBlur={(e) => {
            const zone = e.target.value.trim();
            if (zone && zone !== shown.zone) void turn("Another time zone?", { zone });
          }}
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
        />
        <datalist id="sheet-zones">
          {Intl.supportedValuesOf("timeZone").map((z) => (
            <option key={z} value={z} />
          ))}
        </datalist>
      </label>
      {asked && (
        <AskTurn
          what={asked.what}
          sheet={sheet}
          sets={asked.sets}
          onAnswer={(yes) => {
            if (yes) save(asked.body);
            setAsked(undefined);
          }}
        />
      )}
      <label className="flex items-center justify-between gap-3 py-0.5">
        Settle time: edits count after
        <select
          className="field w-56"
          value={shown.settleSeconds}
          onChange={(e) => save({ settleSeconds: Number(e.target.value) })}
        >
          {[...new Set([0, 30, 60, 120, 300, 900, 3600, shown.settleSeconds])]
            .sort((a, b) => a - b)
            .map((n) => (
              <option key={n} value={n}>
                {n === 0
                  ? "nothing: at once"
                  : n < 60
                    ? count(n, "second")
                    : n < 3600
                      ? count(n / 60, "minute")
                      : count(n / 3600, "hour")}
              </option>
            ))}
        </select>
      </label>
    </Section>
  );
}
