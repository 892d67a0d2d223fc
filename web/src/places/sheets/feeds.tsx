// Feeds of what is coming, for calendar programs: each under a secret address
// that is shown once and can be taken back.
import { useState } from "react";
import { api, http, type Rule, type Schemas } from "../../api/client";
import { useWrite } from "../../api/write";
import { copyText } from "../../parts/clipboard";

const key = ["get", "/sheets/{sheet}/feeds"] as const;

export function Feeds({ sheet, rules }: { sheet: string; rules: Rule[] }) {
  const q = api.useQuery("get", "/sheets/{sheet}/feeds", { params: { path: { sheet } } });
  const [rule, setRule] = useState("");
  const [made, setMade] = useState<string>();
  const add = useWrite<void, { feed: Schemas["Feed"]; address: string }>({
    write: () =>
      http.POST("/sheets/{sheet}/feeds", { params: { path: { sheet } }, body: { rule: rule || undefined } }),
    changes: [key],
    after: (r) => setMade(r.address),
  });
  const revoke = useWrite<string>({
    write: (feed) => http.DELETE("/sheets/{sheet}/feeds/{feed}", { params: { path: { sheet, feed } } }),
    changes: [key],
    saved: "Revoked. Its address leads nowhere from now on.",
  });
  const name = (id?: string) =>
    id ? (rules.find((r) => r.id === id)?.body.name ?? "a rule that was deleted") : "all rules";
  return (
    <details className="mt-2 text-ink-2">
      <summary className="cursor-pointer">Calendar feed of what is coming</summary>
      <ul>
        {q.data?.map((f) => (
          <li key={f.id} className="flex items-baseline gap-2 py-1">
            <span className="min-w-0 flex-1 truncate">
              {name(f.rule)}, by {f.by}
              {!f.works && <span className="text-brick"> · leads nowhere: make it anew</span>}
            </span>
            <button type="button" className="link" disabled={revoke.busy} onClick={() => void revoke.do(f.id)}>
              Revoke
            </button>
          </li>
        ))}
      </ul>
      <div className="mt-1 flex items-center gap-2">
        <select
          className="field min-w-0 flex-1"
          aria-label="Feed of which rule"
          value={rule}
          onChange={(e) => setRule(e.target.value)}
        >
          <option value="">all rules</option>
          {rules.map((r) => (
            <option key={r.id} value={r.id}>
              {r.body.name}
            </option>
          ))}
        </select>
        <button type="button" className="link" disabled={add.busy} onClick={() => void add.do()}>
          Make a feed
        </button>
      </div>
      {made && (
        <div className="mt-1.5" role="status">
          <p>Its address, shown this once:</p>
          <input
            className="field w-full font-mono text-xs"
            readOnly
            aria-label="Address of the feed"
            value={made}
            onFocus={(e) => e.target.select()}
          />
          <button type="button" className="link" onClick={() => void copyText(made)}>
            Copy
          </button>
        </div>
      )}
    </details>
  );
}
