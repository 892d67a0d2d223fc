import { useState } from "react";
import { toast } from "sonner";
import { base } from "../../api/base";
import { api, http, type Schemas, type Sheet } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { copyText } from "../../parts/clipboard";
import { Scroll } from "../../parts/scroll";
import { useMay, useNow, useZone } from "../../parts/session";
import { longDay, moment } from "../../parts/time";

const tokenStates = { revoked: "revoked", expired: "expired", ended: "ended with its person’s access" };

// Tokens let programs at the rows: what a new one may, and those that are there.
export function Tokens({ sheet }: { sheet?: Sheet }) {
  const q = api.useQuery("get", "/tokens");
  const [name, setName] = useState("");
  const [role, setRole] = useState<Schemas["Role"]>("editor");
  const [days, setDays] = useState(365);
  const [secret, setSecret] = useState("");
  const coordinator = useMay("coordinator");
  const now = useNow();
  const zone = useZone();
  const at = (t: string) => moment(t, zone, now);
  const add = useWrite<void, { secret: string }>({
    write: () => http.POST("/tokens", { body: { name, role, sheet: sheet?.id, days } }),
    changes: [keys.tokens],
    after: (made) => {
      setSecret(made.secret);
      setName("");
    },
  });
  const revoke = useWrite({
    write: (id: string) => http.DELETE("/tokens/{token}", { params: { path: { token: id } } }),
    changes: [keys.tokens],
    saved: "Revoked. Whatever holds it gets in no more.",
  });
  const shown = (q.data ?? []).filter((t) => !sheet || t.sheet === "" || t.sheet === sheet.name);
  return (
    <>
      <form
        className="flex flex-wrap items-center gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (name.trim()) void add.do();
        }}
      >
        <label className="flex items-center gap-2">
          A token for
          <input
            className="field w-56"
            value={name}
            placeholder="the program that will use it"
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label className="flex items-center gap-2">
          which may
          <select className="field" value={role} onChange={(e) => setRole(e.target.value as Schemas["Role"])}>
            <option value="reader">read rows</option>
            <option value="editor">read and change rows</option>
            {coordinator && <option value="coordinator">change locked columns too</option>}
          </select>
        </label>
        <label className="flex items-center gap-2">
          for
          <select className="field" value={days} onChange={(e) => setDays(Number(e.target.value))}>
            <option value={30}>30 days</option>
            <option value={365}>a year</option>
            <option value={1095}>three years</option>
          </select>
        </label>
        <button type="submit" className="act-plain" disabled={!name.trim() || add.busy}>
          Make the token
        </button>
        <span className="text-ink-2">{sheet ? "It opens this sheet alone." : "It opens all sheets."}</span>
      </form>
      {secret && (
        <div className="mt-3 border-l-2 border-marigold-fill pl-3" role="status">
          <p>This is shown once. Give it to the program, and keep it as you would a password.</p>
          <p className="mt-1 flex flex-wrap items-baseline gap-3">
            <code className="font-mono text-xs break-all">{secret}</code>
            <button
              type="button"
              className="link"
              onClick={() => {
                void copyText(secret);
                toast("The token is copied.");
              }}
            >
              copy
            </button>
            <button type="button" className="link" onClick={() => setSecret("")}>
              Done
            </button>
          </p>
        </div>
      )}
      {shown.length > 0 && (
        <table className="tbl mt-4 max-w-4xl">
          <thead>
            <tr>
              <th>Token</th>
              <th>Of</th>
              <th>Opens</th>
              <th>May</th>
              <th>Made</th>
              <th>Last used</th>
              <th>Expires</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {shown.map((t) => (
              <tr key={t.id} className={t.state === "works" ? "" : "text-ink-2"}>
                <td>{t.name}</td>
                <td>{t.person}</td>
                <td>{t.sheet || "all sheets"}</td>
                <td>
                  {t.role === "reader"
                    ? "read"
                    : t.role === "editor"
                      ? "read and change"
                      : "change locked columns too"}
                </td>
                <td>{at(t.createdAt)}</td>
                <td>{t.usedAt ? at(t.usedAt) : "never"}</td>
                <td>{t.expiresAt ? longDay(t.expiresAt, zone) : "never"}</td>
                <td className="text-right">
                  {t.state !== "works" ? (
                    tokenStates[t.state]
                  ) : (
                    <button type="button" className="link text-brick!" onClick={() => void revoke.do(t.id)}>
                      Revoke
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

// How other programs get at a sheet's rows.
export function ProgramsPart({ sheet }: { sheet: Sheet }) {
  const key = sheet.columns.find((c) => c.id === sheet.key);
  const other = sheet.columns.find((c) => c.id !== sheet.key && c.type !== "formula");
  const rows = `${location.origin}${base}/api/sheets/${sheet.id}/rows`;
  const auth = '-H "Authorization: Bearer $TOKEN"';
  const examples = [
    ["Read rows", `curl -s ${auth} "${rows}?limit=100"`],
    [
      "Add a row, once however often it is asked",
      `curl -s ${auth} -H "Content-Type: application/json" -H "Idempotency-Key: arrival-7" \\\n  -d '{"cells": {"${key?.name ?? other?.name ?? "Name"}": "…"}}' "${rows}"`,
    ],
    ...(key && other
      ? [
          [
            "Change the row with a key, or add it",
            `curl -s -X PUT ${auth} -H "Content-Type: application/json" \\\n  -d '{"cells": {"${other.name}": "…"}}' "${rows}/by-key/KEY"`,
          ],
          ["Delete the row with a key", `curl -s -X DELETE ${auth} "${rows}/by-key/KEY"`],
        ]
      : []),
  ];
  return (
    <Scroll label="Other programs" className="min-h-0 flex-1 px-5 py-4">
      <p className="mb-4 max-w-3xl font-letter text-[15px] leading-6">
        A program adds and changes rows over HTTP, with a token. What it does stands in the history under its name, and
        counts like any edit.
      </p>
      <Tokens sheet={sheet} />
      <h2 className="mt-6 mb-1">How it asks</h2>
      <dl>
        {examples.map(([what, code]) => (
          <div key={what} className="mb-3">
            <dt className="text-ink-2">{what}</dt>
            <dd>
              <Scroll label={what ?? ""} className="border border-hair-2 bg-sheet p-2.5">
                <pre className="font-mono text-xs leading-5">{code}</pre>
              </Scroll>
            </dd>
          </div>
        ))}
      </dl>
      <p className="text-ink-2">
        Cells go by the columns’ names or ids, as one would type them.{" "}
        <a className="link" href={`${base}/api/openapi.json`} target="_blank" rel="noreferrer">
          The whole description
        </a>{" "}
        (OpenAPI) has every call, with examples that can be run.
      </p>
    </Scroll>
  );
}
