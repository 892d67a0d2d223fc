import { Health } from "../../parts/health";
import { useState } from "react";
import { api, http, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { Confirm } from "../../parts/confirm";
import { draftOf, Leaving, LeftBehind, useLeaving, usePending } from "../../parts/draft";
import { durationWords } from "../../parts/duration";
import { DurationField, NumberField } from "../../parts/fields";
import { useMay } from "../../parts/session";
import { SignatureSlip } from "./signature";
import { WriteState } from "../../parts/writestate";
import { count, dayOfMonth, longDay, shortMonth, weekday } from "../../parts/time";

type Save = Schemas["SenderSave"];
const fresh: Save = { name: "", address: "", host: "", port: 587, security: "starttls", username: "" };

export function Senders() {
  // How they do changes without anybody saving anything.
  const senders = api.useQuery("get", "/setup/senders", undefined, { refetchInterval: 5000 });
  const may = useMay("administrator");
  const [open, setOpen] = useState<string | null>(null);
  const [load, setLoad] = useState<string | null>(null);
  const [signed, setSigned] = useState<string>();
  const list = senders.data;
  if (!list) return <Await query={senders} />;
  return (
    <div className="relative flex min-h-0 flex-1">
      <div className="min-h-0 flex-1 overflow-auto px-5 py-4">
        <h1 className="mb-3">
          {list.length === 0 ? (
            <>
              <b>Senders.</b> None yet. Without one nothing can go out.
            </>
          ) : (
            <>
              <b>Senders.</b> A sheet’s emails go out from {list.find((s) => s.isDefault)?.name}, unless the sheet has
              another.
            </>
          )}
        </h1>
        <table className="tbl max-w-5xl">
          <thead>
            <tr>
              <th>From</th>
              <th>Mail server</th>
              <th>Protection</th>
              <th>Signs in as</th>
              <th>Daily cap and pace</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {list.map((s) => (
              <tr key={s.id}>
                <td>
                  {s.name} &lt;{s.address}&gt;
                  {s.isDefault && list.length > 1 && <span className="block text-ink-2">used by default</span>}
                  <Health sender={s} />
                </td>
                <td>
                  {s.host}:{s.port}
                </td>
                <td>{s.security === "none" ? "none" : s.security === "tls" ? "TLS" : "STARTTLS"}</td>
                <td>
                  {s.username || "nobody"}
                  {s.hasPassword && ", with a password"}
                </td>
                <td>
                  {s.dailyCap > 0 ? `${s.dailyCap.toLocaleString("en-GB")} people a day` : "no cap"}
                  {s.pace > 0 && `, ${s.pace.toLocaleString("en-GB")} emails a minute`}
                  {s.batch > 0 &&
                    s.pauseSeconds > 0 &&
                    `, ${s.pauseSeconds / 60} min of pause after each ${s.batch.toLocaleString("en-GB")}`}
                </td>
                <td className="whitespace-nowrap">
                  <button
                    type="button"
                    className="link"
                    aria-expanded={load === s.id}
                    onClick={() => setLoad(load === s.id ? null : s.id)}
                  >
                    what it sends
                  </button>
                  {may && (
                    <button type="button" className="link ml-4" onClick={() => setSigned(s.id)}>
                      signature
                    </button>
                  )}
                  {may && (
                    <button type="button" className="link ml-4" onClick={() => setOpen(s.id)}>
                      change
                    </button>
                  )}
                  {may && <Placing sender={s} list={list} />}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {load !== null && <Load key={load} sender={load} />}
        {may && open === null && (
          <button type="button" className="link mt-3" onClick={() => setOpen("new")}>
            Add a sender
          </button>
        )}
        <PersonLimit may={may} />
        {open !== null && (
          <SenderForm
            key={open}
            id={open === "new" ? undefined : open}
            start={list.filter((s) => s.id === open).map(pickSave)[0]}
            onDone={() => setOpen(null)}
          />
        )}
      </div>
      {signed && <SignatureSlip sender={signed} onClose={() => setSigned(undefined)} />}
    </div>
  );
}

// How many emails one person gets at the most, over all rules.
function PersonLimit({ may }: { may: boolean }) {
  const q = api.useQuery("get", "/setup/person-limit");
  const save = useWrite<Schemas["PersonLimit"]>({
    write: (body) => http.PUT("/setup/person-limit", { body }),
    changes: [keys.personLimit, keys.today],
  });
  const [form, setForm] = useState<Schemas["PersonLimit"]>();
  const l = form ?? q.data;
  if (!l) return null;
  const put = (p: Partial<Schemas["PersonLimit"]>) => setForm({ ...l, within: l.within || "P1W", ...p });
  return (
    <section className="mt-8 max-w-5xl">
      <h2 className="mb-2">At most to one person</h2>
      <div className="flex flex-wrap items-center gap-2">
        {l.n === 0 ? (
          <span>There is no limit on how many emails one person gets.</span>
        ) : may ? (
          <>
            Nobody gets more than{" "}
            <NumberField
              label="Emails to one person"
              className="w-16"
              whole
              min={1}
              value={l.n}
              onChange={(n) => put({ n })}
            />
            emails within <DurationField label="Within" value={l.within} onChange={(within) => put({ within })} /> and
            what is more
            <select
              className="field"
              aria-label="What is over it"
              value={String(l.skip)}
              onChange={(e) => put({ skip: e.target.value === "true" })}
            >
              <option value="false">waits, for a week at the most</option>
              <option value="true">is skipped</option>
            </select>
          </>
        ) : (
          <span>
            Nobody gets more than {count(l.n, "email")} within {durationWords(l.within)}; what is more{" "}
            {l.skip ? "is skipped" : "waits"}.
          </span>
        )}
        {may && (
          <button type="button" className="link" onClick={() => put({ n: l.n ? 0 : 3 })}>
            {l.n ? "Remove the limit" : "Set a limit"}
          </button>
        )}
        {form && (
          <button
            type="button"
            className="act"
            disabled={save.busy}
            onClick={() =>
              void save.do({ ...form, within: form.within || "P1W" }).then((ok) => ok && setForm(undefined))
            }
          >
            Save the limit
          </button>
        )}
      </div>
      <p className="mt-1 text-ink-2">It counts To alone, over all rules, follow-ups among them.</p>
    </section>
  );
}

// What is done with a sender's place among the others, said before it is done.
function Placing({ sender: s, list }: { sender: Schemas["Sender"]; list: Schemas["Sender"][] }) {
  const [asking, setAsking] = useState<"default" | "delete">();
  const path = { sender: s.id };
  const changes = [keys.senders, keys.sheets, keys.today, ["get", "/setup/senders/{sender}/load"]];
  const use = useWrite({ write: () => http.POST("/setup/senders/{sender}/default", { params: { path } }), changes });
  const remove = useWrite({ write: () => http.DELETE("/setup/senders/{sender}", { params: { path } }), changes });
  const now = list.find((x) => x.isDefault);
  const moves = (sheets: string[], to: string) =>
    sheets.length === 0 ? "No sheet sends from another address." : `${sheets.join(", ")} would send from ${to}.`;
  return (
    <>
      {!s.isDefault && (
        <button type="button" className="link ml-4" onClick={() => setAsking("default")}>
          use by default
        </button>
      )}
      {(!s.isDefault || list.length === 1) && (
        <button type="button" className="link ml-4 text-brick!" onClick={() => setAsking("delete")}>
          delete
        </button>
      )}
      {asking && (
        <Confirm
          title={asking === "delete" ? `Delete ${s.name}?` : `Use ${s.name} by default?`}
          act={asking === "delete" ? "Delete the sender" : "Use it by default"}
          busy={use.busy || remove.busy}
          onNo={() => setAsking(undefined)}
          onYes={() => {
            setAsking(undefined);
            void (asking === "delete" ? remove : use).do();
          }}
        >
          <p>
            {asking === "delete"
              ? s.isDefault
                ? "Without a sender nothing can go out."
                : moves(s.sheets, now?.address ?? "")
              : moves(now?.sheets ?? [], s.address)}
          </p>
          {asking === "delete" && <p className="mt-1 text-ink-2">What it has sent stays in the log.</p>}
        </Confirm>
      )}
    </>
  );
}

/** What is saved of a sender. */
export function pickSave(s: Schemas["Sender"]): Save {
  const { name, address, host, port, security, username, dailyCap, pace, batch, pauseSeconds, zone, maxConnections } =
    s;
  return {
    name,
    address,
    host,
    port,
    security,
    username,
    dailyCap,
    pace,
    batch,
    pauseSeconds,
    zone,
    maxConnections,
  };
}

// What a sender has reached today, and is foreseen to: with what its cap moves.
function Load({ sender }: { sender: string }) {
  const q = api.useQuery("get", "/setup/senders/{sender}/load", { params: { path: { sender } } });
  const l = q.data;
  if (!l) return <Await query={q} />;
  const over = l.days.filter((d) => d.over > 0);
  const top = Math.max(l.cap, 4, ...l.days.map((d) => d.recipients));
  const w = 768;
  const x = (i: number) => 20 + (i * (w - 24)) / l.days.length;
  const y = (n: number) => 70 - (n * 64) / top;
  return (
    <section className="my-4 max-w-3xl border-y border-hair-2 py-3">
      <h2 className="mb-1">
        {count(l.used, "person", "people")} reached today
        {l.cap > 0 && `, ${l.left.toLocaleString("en-GB")} of ${l.cap.toLocaleString("en-GB")} left`}
      </h2>
      <p className="mb-2 text-ink-2">
        It sends for {l.sheets.length > 0 ? l.sheets.map((s) => s.name).join(", ") : "no sheet"}. In the coming four
        weeks, as the rows are now:
      </p>
      <svg
        viewBox={`0 0 ${w} 88`}
        className="block w-full"
        role="img"
        aria-label={`People reached a day: ${l.days.map((d) => d.recipients).join(", ")}`}
      >
        {l.days.map((d, i) => (
          <g key={d.day}>
            {d.recipients > 0 && (
              <rect
                x={x(i) + 3}
                y={y(d.recipients)}
                width={12}
                height={70 - y(d.recipients)}
                fill="var(--marigold-fill)"
              >
                <title>{`${d.day}: ${count(d.recipients, "person", "people")}`}</title>
              </rect>
            )}
            {weekday(d.day) === 1 && (
              <text x={x(i) + 9} y={84} fontSize={12} textAnchor="middle" fill="var(--ink-2)">
                {dayOfMonth(d.day)} {shortMonth(d.day)}
              </text>
            )}
          </g>
        ))}
        <line x1={4} x2={w - 4} y1={70} y2={70} stroke="var(--hair)" />
        {l.cap > 0 && (
          <line x1={4} x2={w - 4} y1={y(l.cap)} y2={y(l.cap)} stroke="var(--brick)" strokeDasharray="4 3" />
        )}
      </svg>
      {over.map((d) => (
        <p key={d.day} className="text-marigold">
          {count(d.recipients, "person", "people")} on {longDay(`${d.day}T12:00:00Z`, "UTC")}, cap{" "}
          {l.cap.toLocaleString("en-GB")}: {d.over.toLocaleString("en-GB")} wait for the next day.
        </p>
      ))}
    </section>
  );
}

type FormProps = {
  id?: string;
  start?: Save;
  brief?: boolean; // what every sender needs; the rest on demand
  onDone?: () => void;
};

export function SenderForm({ id, start = fresh, brief, onDone }: FormProps) {
  const [whole, setWhole] = useState(!brief);
  // A password is not kept in the browser.
  const { pending, setPending, left } = usePending<Save>(draftOf.sender(id));
  const [password, setPassword] = useState(start.password);
  const form = { ...(pending ?? start), password };
  const put = ({ password: secret, ...more }: Partial<Save>) => {
    if (secret !== undefined) setPassword(secret);
    setPending({ ...(pending ?? start), ...more, password: undefined });
  };
  const leaving = useLeaving(pending !== undefined);
  const cancel = () => {
    setPending(undefined);
    onDone?.();
  };
  const save = useWrite<void, Schemas["Sender"]>({
    write: () =>
      id
        ? http.PUT("/setup/senders/{sender}", { params: { path: { sender: id } }, body: form })
        : http.POST("/setup/senders", { body: form }),
    changes: [keys.senders, ["get", "/setup/senders/{sender}/load"]],
    after: cancel,
    quiet: true,
  });
  const attempt = useWrite<void, Schemas["Tried"]>({
    write: () => http.POST("/setup/senders/try", { body: { sender: form, id } }),
    quiet: true,
  });
  const [tried, setTried] = useState<Schemas["Tried"]>();
  const problem = save.failed ?? attempt.failed;
  const field = (key: "name" | "address" | "host" | "username" | "password", label: string, type = "text") => (
    <label className="flex flex-col gap-1">
      {label}
      <input
        className="field"
        type={type}
        autoComplete="off"
        aria-invalid={problem?.field === `/${key}`}
        value={form[key] ?? ""}
        onChange={(e) => put({ [key]: e.target.value })}
      />
    </label>
  );
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        void save.do();
      }}
      className="mt-4 grid max-w-2xl grid-cols-2 gap-x-6 gap-y-3 border-t border-hair pt-4"
    >
      {left && (
        <div className="col-span-2 -mx-5">
          <LeftBehind what="sender" {...left} />
        </div>
      )}
      <Leaving of={leaving} what="sender" onSave={() => save.do()} />
      {field("name", "Name that recipients see")}
      {field("address", "Address")}
      {field("host", "Mail server")}
      <label className="flex flex-col gap-1">
        Port
        <input
          className="field"
          type="number"
          value={form.port}
          onChange={(e) => put({ port: Number(e.target.value) })}
        />
      </label>
      <label className="flex flex-col gap-1">
        Protection
        <select
          className="field"
          value={form.security}
          onChange={(e) => put({ security: e.target.value as Save["security"] })}
        >
          <option value="starttls">STARTTLS</option>
          <option value="tls">TLS</option>
          <option value="none">none</option>
        </select>
      </label>
      {field("username", "User name, if it wants one")}
      {field(
        "password",
        id ? "Password; leave empty to keep the one there is" : "Password, if it wants one",
        "password",
      )}
      {whole ? (
        <Limits form={form} put={put} />
      ) : (
        <button type="button" className="link col-span-2 justify-self-start" onClick={() => setWhole(true)}>
          How many emails it may send …
        </button>
      )}
      <p className="col-span-2 min-h-5">
        <WriteState of={[save, attempt]} doing={attempt.busy ? "Trying …" : undefined} />
      </p>
      {tried && (
        <p role="status" className={`col-span-2 ${tried.ok ? "text-juniper" : "text-brick"}`}>
          {tried.said}
        </p>
      )}
      <span className="col-span-2 flex gap-3">
        <button type="submit" className="act" disabled={save.busy}>
          Save the sender
        </button>
        <button
          type="button"
          className="act-plain"
          disabled={attempt.busy || !form.address || !form.host}
          onClick={() => void attempt.do().then((t) => setTried(t))}
        >
          {attempt.busy ? "Trying …" : "Send me a test email"}
        </button>
        {onDone && (
          <button type="button" className="act-plain" onClick={cancel}>
            Cancel
          </button>
        )}
      </span>
    </form>
  );
}

// How many people and emails, and how fast.
function Limits({ form, put }: { form: Save; put: (more: Partial<Save>) => void }) {
  const figure = (words: string, label: string, value: number | undefined, save: (n: number) => Partial<Save>) => (
    <div className="flex flex-col gap-1">
      {words}
      <NumberField label={label} className="w-full" whole min={0} value={value ?? 0} onChange={(n) => put(save(n))} />
    </div>
  );
  return (
    <>
      {figure("People a day at the most; 0 for no cap", "Daily cap", form.dailyCap, (dailyCap) => ({ dailyCap }))}
      {figure("Emails a minute at the most; 0 for no limit", "Pace", form.pace, (pace) => ({ pace }))}
      {figure("A batch is so many emails; 0 for no pause", "Batch", form.batch, (batch) => ({ batch }))}
      {figure(
        "Minutes of pause after each batch; after each email with a batch of 1",
        "Pause in minutes",
        (form.pauseSeconds ?? 0) / 60,
        (minutes) => ({ pauseSeconds: minutes * 60 }),
      )}
      {figure(
        "Connections to its server at once; 0 for what works",
        "Connections",
        form.maxConnections,
        (maxConnections) => ({ maxConnections }),
      )}
      <label className="flex flex-col gap-1">
        Time zone, whose midnight begins the cap’s day
        <input
          className="field"
          list="sender-zones"
          value={form.zone ?? ""}
          onChange={(e) => put({ zone: e.target.value || undefined })}
        />
        <datalist id="sender-zones">
          {Intl.supportedValuesOf("timeZone").map((z) => (
            <option key={z} value={z} />
          ))}
        </datalist>
      </label>
    </>
  );
}
