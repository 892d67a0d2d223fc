// To whom: the row's columns of addresses, colleagues, and fixed addresses.
import { api, type Column } from "../../api/client";
import type { Source } from "./model";

type Props = { columns: Column[]; value: Source[]; onChange: (v: Source[]) => void };

export function Addresses({ columns, value, onChange }: Props) {
  const colleagues = api.useQuery("get", "/colleagues");
  const said = value.filter((v) => v.column || v.address || v.person); // nobody yet is left out
  const fixed = said
    .filter((v) => v.address)
    .map((v) => v.address)
    .join(", ");
  const toggle = (is: (v: Source) => boolean, source: Source) => (on: boolean) =>
    onChange(on ? [...said, source] : said.filter((v) => !is(v)));
  const gone = said.filter((v) => v.column && !columns.some((c) => c.id === v.column));
  return (
    <div className="flex max-w-80 flex-col gap-1.5">
      {columns.map((c) => (
        <Tick
          key={c.id}
          words={c.name}
          on={said.some((v) => v.column === c.id)}
          onChange={toggle((v) => v.column === c.id, { column: c.id })}
        />
      ))}
      {columns.length === 0 && <p className="text-ink-2">The sheet has no column of type email.</p>}
      {gone.map((v) => (
        <Tick
          key={v.column}
          words="a column that is not there any more"
          on
          onChange={toggle((x) => x.column === v.column, v)}
        />
      ))}
      {(colleagues.data ?? []).length > 0 && (
        <p className="mt-1 border-t border-hair-2 pt-2 text-xs font-[650] text-ink-2">Colleagues</p>
      )}
      {(colleagues.data ?? []).map((p) => (
        <Tick
          key={p.email}
          words={p.name}
          note={p.email}
          on={said.some((v) => v.person === p.email)}
          onChange={toggle((v) => v.person === p.email, { person: p.email })}
        />
      ))}
      <label className="mt-1 flex flex-col gap-1 border-t border-hair-2 pt-2">
        Always to these addresses
        <input
          className="field w-72"
          placeholder="name@place.example"
          defaultValue={fixed}
          onBlur={(e) => {
            const t = e.target.value.trim();
            if (t !== fixed) onChange([...said.filter((v) => !v.address), ...(t ? [{ address: t }] : [])]);
          }}
        />
      </label>
    </div>
  );
}

function Tick({
  words,
  note,
  on,
  onChange,
}: {
  words: string;
  note?: string;
  on: boolean;
  onChange: (on: boolean) => void;
}) {
  return (
    <label className="flex items-baseline gap-2">
      <input type="checkbox" className="accent-juniper" checked={on} onChange={(e) => onChange(e.target.checked)} />
      {words}
      {note && <span className="ml-auto pl-4 text-ink-2">{note}</span>}
    </label>
  );
}
