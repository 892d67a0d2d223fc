import { api } from "../api/client";

/** The languages in which dates and numbers can be read and written, by name and example. */
export function LocaleSelect({ value, onChange }: { value: string; onChange: (tag: string) => void }) {
  const q = api.useQuery("get", "/locales");
  const list = q.data ?? [];
  return (
    <select className="field w-72" aria-label="Written as in" value={value} onChange={(e) => onChange(e.target.value)}>
      {!list.some((l) => l.tag === value) && <option value={value}>{value}</option>}
      {list.map((l) => (
        <option key={l.tag} value={l.tag} title={l.own}>
          {l.name}: {l.example}
        </option>
      ))}
    </select>
  );
}
