// Who did what to access and settings, and what was exported: for administrators.
import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { base } from "../../api/base";
import { api, http, type Schemas, take } from "../../api/client";
import { keys } from "../../api/keys";
import { Await } from "../../parts/await";
import { Blank, Choices } from "../../parts/picker";
import { useNow, useZone } from "../../parts/session";
import { moment } from "../../parts/time";

type Act = Schemas["AuditAct"];
const acts: Record<Act, string> = {
  "sign-in": "signed in",
  "sign-in-failed": "failed to sign in",
  "sign-out": "signed out",
  "sessions-ended": "signed out elsewhere",
  "password-changed": "changed their password",
  "link-made": "made a link to set a password",
  "person-saved": "changed who may sign in",
  "token-saved": "changed a token",
  "setting-saved": "changed a setting",
  "form-saved": "changed a form",
  "source-saved": "changed a source",
  export: "exported",
};

const spans: Record<string, { name: string; days: number }> = {
  "": { name: "ever", days: 0 },
  day: { name: "in the last 24 hours", days: 1 },
  week: { name: "in the last 7 days", days: 7 },
  month: { name: "in the last 30 days", days: 30 },
};

type Filter = { act: Act | ""; person: string; span: string; network: string };

export function Audit() {
  const [filter, setFilter] = useState<Filter>({ act: "", person: "", span: "", network: "" });
  const now = useNow(60000);
  const zone = useZone();
  const people = api.useQuery("get", "/people");
  const span = spans[filter.span]?.days ?? 0;
  const since = span ? new Date(now.getTime() - span * 86_400_000).toISOString() : undefined;
  const query = {
    act: filter.act || undefined,
    person: filter.person || undefined,
    network: filter.network || undefined,
    since,
  };
  const q = useInfiniteQuery({
    queryKey: keys.audit(filter),
    queryFn: ({ pageParam }) => take(http.GET("/audit", { params: { query: { ...query, before: pageParam } } })),
    initialPageParam: "",
    getNextPageParam: (p) => p.next || undefined,
  });
  const lines = q.data?.pages.flatMap((p) => p.lines);
  const networks = [...new Set([filter.network, ...(lines ?? []).map((l) => l.network)])].filter(Boolean);
  const csv = new URLSearchParams(Object.entries(query).filter((e): e is [string, string] => !!e[1]));
  return (
    <div className="overflow-auto px-5 py-4">
      <h1 className="mb-3">
        <b>Audit.</b> Who signed in, who changed access and settings, and what was exported. Nothing in it can be
        changed.
      </h1>
      <p className="mb-3 flex flex-wrap items-baseline gap-x-4 text-ink-2">
        <span>
          Showing what{" "}
          <Blank
            title="By whom"
            label="Person"
            words={people.data?.find((p) => p.id === filter.person)?.name ?? "anybody"}
          >
            <Choices
              name="person"
              value={filter.person}
              onChoose={(person) => setFilter({ ...filter, person })}
              items={[{ id: "", name: "anybody" }, ...(people.data ?? []).map((p) => ({ id: p.id, name: p.name }))]}
            />
          </Blank>{" "}
          <Blank title="Which acts" label="Act" words={filter.act ? acts[filter.act] : "did of any kind"}>
            <Choices
              name="act"
              value={filter.act}
              onChoose={(act) => setFilter({ ...filter, act })}
              items={[
                { id: "", name: "did of any kind" },
                ...(Object.keys(acts) as Act[]).map((id) => ({ id, name: acts[id] })),
              ]}
            />
          </Blank>{" "}
          from{" "}
          <Blank title="From which network address" label="Network address" words={filter.network || "anywhere"}>
            <Choices
              name="network"
              value={filter.network}
              onChoose={(network) => setFilter({ ...filter, network })}
              items={[{ id: "", name: "anywhere" }, ...networks.map((id) => ({ id, name: id }))]}
            />
          </Blank>{" "}
          <Blank title="Since when" label="Time" words={spans[filter.span]?.name ?? "ever"}>
            <Choices
              name="span"
              value={filter.span}
              onChoose={(span) => setFilter({ ...filter, span })}
              items={Object.entries(spans).map(([id, x]) => ({ id, name: x.name }))}
            />
          </Blank>
          .
        </span>
        <a className="link ml-auto" href={`${base}/api/audit.csv?${csv}`} download="nivot-audit.csv">
          Export as CSV
        </a>
      </p>
      {lines === undefined ? (
        <Await query={q} />
      ) : lines.length === 0 ? (
        <p className="text-ink-2">Nothing is like this.</p>
      ) : (
        <table className="tbl">
          <thead>
            <tr>
              <th>When</th>
              <th>Who</th>
              <th>From</th>
              <th>What</th>
              <th>Before</th>
              <th>After</th>
            </tr>
          </thead>
          <tbody>
            {lines.map((l) => (
              <tr key={l.id} className="align-top">
                <td className="whitespace-nowrap">{moment(l.at, zone, now)}</td>
                <td className="whitespace-nowrap">{l.actor || "Nivot"}</td>
                <td className="text-ink-2">{l.network}</td>
                <td>
                  {acts[l.act]}
                  {l.subject && `: ${l.subject}`}
                </td>
                <td className="text-ink-2">{facts(l.was)}</td>
                <td className="text-ink-2">{facts(l.became)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {q.hasNextPage && (
        <button
          type="button"
          className="act-plain mt-3"
          disabled={q.isFetchingNextPage}
          onClick={() => void q.fetchNextPage()}
        >
          Show older
        </button>
      )}
    </div>
  );
}

// What was kept of before or after, as "name: value" pairs.
function facts(json: string): string {
  if (!json) return "";
  const of = read(json);
  return typeof of === "object" && of !== null ? pairs(of as Record<string, unknown>, ", ") : json;
}

// What a text is as JSON; else the text itself, as one that was cut off is.
function read(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}

const pairs = (of: Record<string, unknown>, between: string): string =>
  Object.entries(of)
    .filter(([, v]) => v !== "" && v !== null)
    .map(([k, v]) => `${k.replace(/[A-Z]/g, (c) => ` ${c.toLowerCase()}`)}: ${said(v)}`)
    .join(between);

function said(v: unknown): string {
  if (typeof v === "boolean") return v ? "yes" : "no";
  if (typeof v === "string" && /^[[{]/.test(v) && typeof read(v) === "object") return said(read(v));
  if (Array.isArray(v)) return v.map(said).join(" and ");
  if (typeof v === "object" && v !== null) return pairs(v as Record<string, unknown>, "; ");
  return String(v);
}
