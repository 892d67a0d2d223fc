// What was deleted or put away lately, with a way to bring each back.
import type { ReactNode } from "react";
import { useNow, useZone } from "./session";
import { moment } from "./time";

type Props<T> = {
  title: string;
  label?: string; // what the list is called by, where its title does not say it
  list: T[];
  of: (x: T) => { id: string; name: string; by: string; at: string };
  shown?: (x: T) => ReactNode; // its name, where that is more than words
  more: (x: T) => ReactNode; // what else is said of it
  busy: boolean;
  onRestore: (x: T) => void;
};

export function Restorable<T>({ title, label = title, list, of, shown, more, busy, onRestore }: Props<T>) {
  const now = useNow(60000);
  const zone = useZone();
  if (list.length === 0) return null;
  return (
    <section className="mt-6" aria-label={label}>
      <h2 className="mb-1">{title}</h2>
      <table className="tbl max-w-5xl">
        <tbody>
          {list.map((x) => {
            const { id, name, by, at } = of(x);
            return (
              <tr key={id}>
                <td>{shown?.(x) || name}</td>
                <td>{more(x)}</td>
                <td className="text-ink-2">
                  by {by}, {moment(at, zone, now)}
                </td>
                <td className="text-right">
                  <button
                    type="button"
                    className="link"
                    aria-label={`Restore ${name}`}
                    disabled={busy}
                    onClick={() => onRestore(x)}
                  >
                    Restore
                  </button>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}
