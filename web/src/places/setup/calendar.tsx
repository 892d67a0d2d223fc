import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, http, type Schemas, words } from "../../api/client";
import { useMay } from "../../parts/session";

type Calendar = Schemas["CalendarBody"];
const names = { mon: "Monday", tue: "Tuesday", wed: "Wednesday", thu: "Thursday", fri: "Friday", sat: "Saturday", sun: "Sunday" } as const;

export function WorkingCalendar() {
  const q = api.useQuery("get", "/setup/calendar");
  const may = useMay("coordinator");
  const client = useQueryClient();
  const [day, setDay] = useState("");
  const c = q.data;
  if (!c) return null;
  const put = async (next: Calendar) => {
    const { error } = await http.PUT("/setup/calendar", { body: next });
    if (error) toast.error(words(error));
    await client.invalidateQueries();
  };
  return (
    <div className="overflow-auto px-5 py-4">
      <h1 className="mb-3">
        <b>Working calendar.</b> Rules that count in working days count by it.
      </h1>
      <fieldset disabled={!may} className="mb-5 flex flex-wrap gap-4">
        <legend className="mb-1 text-xs font-[650] text-ink-2">Days worked</legend>
        {Object.entries(names).map(([id, name]) => (
          <label key={id} className="flex items-center gap-1.5">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={c.weekdays.includes(id as Calendar["weekdays"][number])}
              onChange={(e) =>
                put({
                  ...c,
                  weekdays: (Object.keys(names) as Calendar["weekdays"]).filter((d) =>
                    d === id ? e.target.checked : c.weekdays.includes(d),
                  ),
                })
              }
            />
            {name}
          </label>
        ))}
      </fieldset>
      <h2 className="mb-1">Closed days</h2>
      <ul className="max-w-md">
        {c.closed.map((d) => (
          <li key={d} className="flex items-center border-b border-hair-2 py-1">
            {new Date(`${d}T12:00:00Z`)
              .toLocaleDateString("en-GB", { weekday: "long", day: "numeric", month: "long", year: "numeric", timeZone: "UTC" })
              .replace(",", "")}
            {may && (
              <button
                type="button"
                className="link ml-auto"
                aria-label={`Take ${d} out`}
                onClick={() => put({ ...c, closed: c.closed.filter((x) => x !== d) })}
              >
                take out
              </button>
            )}
          </li>
        ))}
        {c.closed.length === 0 && <li className="text-ink-2">None.</li>}
      </ul>
      {may && (
        <form
          className="mt-3 flex gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            if (day) {
              void put({ ...c, closed: [...new Set([...c.closed, day])].sort() });
              setDay("");
            }
          }}
        >
          <input type="date" className="field" aria-label="Closed day" value={day} onChange={(e) => setDay(e.target.value)} />
          <button type="submit" className="act-plain" disabled={!day}>
            Add a closed day
          </button>
        </form>
      )}
    </div>
  );
}
