// What is held of a rule, to be looked through: let all or the picked go, leave
// others out with a reason, or send none.
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link } from "@tanstack/react-router";
import { type ReactNode, useMemo, useState } from "react";
import { api, http, type Schemas, take, words } from "../../api/client";
import { keys, ofEmails, ofSheet } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { MarkIcon } from "../../parts/mark";
import { useMay, useNow, useZone } from "../../parts/session";
import { Scroll } from "../../parts/scroll";
import { useKey } from "../../parts/shortcuts";
import { LetterFrame } from "../../parts/letter";
import { Section, Slip } from "../../parts/slip";
import { count, moment } from "../../parts/time";

const page = getRouteApi("/frame/sheets/$sheet/held/$rule");
type Held = Schemas["HeldEmail"];

export function HeldPlace(): ReactNode {
  const path = page.useParams();
  const q = api.useQuery("get", "/sheets/{sheet}/rules/{rule}/held", { params: { path } });
  const back = (
    <Link to="/sheets/$sheet" params={{ sheet: path.sheet }} className="link">
      Back to the sheet
    </Link>
  );
  return (
    <Await query={q} back={back}>
      {(h) => <HeldPage page={h} sheet={path.sheet} rule={path.rule} />}
    </Await>
  );
}

// What can be let go: it is held, and would go as its row is now.
const goes = (e: Held) => e.state === "held" && e.outcome === "send";

function HeldPage({ page: h, sheet, rule }: { page: Schemas["HeldPage"]; sheet: string; rule: string }) {
  const may = useMay("coordinator");
  const now = useNow(60000);
  const zone = useZone();
  const [out, setOut] = useState(new Set<string>());
  const [find, setFind] = useState("");
  const [open, setOpen] = useState<string>();
  const [because, setBecause] = useState("");
  const shown = useMemo(() => {
    const text = find.trim().toLowerCase();
    return h.emails.filter(
      (e) => !text || `${e.row} ${e.to} ${e.subject} ${e.nowSubject}`.toLowerCase().includes(text),
    );
  }, [h.emails, find]);
  const act = useWrite<{ send: string[]; leaveOut: string[]; because?: string }, Schemas["LookedThrough"]>({
    write: (body) => http.POST("/sheets/{sheet}/rules/{rule}/held", { params: { path: { sheet, rule } }, body }),
    changes: [["get", "/sheets/{sheet}/rules/{rule}/held"], ...ofEmails, ...ofSheet(sheet)],
    saved: (r) =>
      [
        r.sent > 0 && `${count(r.sent, "email")} sent on`,
        r.leftOut > 0 && `${count(r.leftOut, "email")} left out`,
        r.other > 0 && `${r.other} no longer to be sent`,
      ]
        .filter(Boolean)
        .join("; ") + ".",
  });
  const picked = h.emails.filter((e) => goes(e) && !out.has(e.id));
  const left = h.emails.filter((e) => e.state === "held" && out.has(e.id));
  const stale = h.emails.filter((e) => e.state === "held" && e.outcome !== "send");
  const incomplete = h.emails.filter((e) => e.state === "incomplete");
  const people = new Set(picked.flatMap((e) => e.nowTo.split(", "))).size;
  const toggle = (id: string) =>
    setOut((o) => {
      const next = new Set(o);
      if (!next.delete(id)) next.add(id);
      return next;
    });
  const index = shown.findIndex((e) => e.id === open);
  const leaf = (by: number) => {
    const next = shown[Math.max(0, Math.min(shown.length - 1, (index < 0 ? 0 : index) + by))];
    if (next) setOpen(next.id);
  };
  useKey(",", () => leaf(-1));
  useKey(".", () => leaf(1));
  return (
    <div className="relative flex min-h-0 flex-1 flex-col">
      <div className="px-5 pt-[18px] pb-2">
        <h1>
          <b>{h.held === 0 ? "Nothing waits for you." : `${count(h.held, "email waits", "emails wait")} for you.`}</b>{" "}
          {h.held > 0 && h.why && <>Held because {h.why}. </>}
          <Link to="/sheets/$sheet/rules/$rule" params={{ sheet, rule }} className="figure">
            Rule {h.letter}, {h.rule}
          </Link>
          .
        </h1>
      </div>
      <div className="flex flex-wrap items-baseline gap-4 px-5 pb-2 text-ink-2">
        <input
          className="field w-60"
          aria-label="Find among them"
          placeholder="find a row, an address, a subject"
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
        <button type="button" className="link" onClick={() => setOut(new Set())}>
          pick all
        </button>
        <button type="button" className="link" onClick={() => setOut(new Set(h.emails.filter(goes).map((e) => e.id)))}>
          pick none
        </button>
        <span>
          {[
            left.length > 0 && `${left.length} not picked`,
            stale.length > 0 && `${stale.length} no longer needed`,
            incomplete.length > 0 && `${incomplete.length} incomplete`,
          ]
            .filter(Boolean)
            .join(", ")}
        </span>
        {h.emails.length < h.held && <span>The first {h.emails.length.toLocaleString("en-GB")} are shown.</span>}
      </div>
      {may && <Doubles page={h} out={out} onOut={setOut} />}
      <Scroll label="Held emails" className="min-h-0 flex-1 border-t border-hair bg-sheet px-5">
        <table className="tbl">
          <thead>
            <tr>
              <th>
                <span className="sr-only">Picked</span>
              </th>
              <th />
              <th>Row</th>
              <th>Due</th>
              <th>To</th>
              <th>Subject</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((e) => (
              <tr key={e.id} className={e.id === open ? "bg-wash" : goes(e) && !out.has(e.id) ? "" : "text-ink-2"}>
                <td className="w-6">
                  {goes(e) && may && (
                    <input
                      type="checkbox"
                      className="accent-juniper"
                      aria-label={`Send ${e.row || e.subject}`}
                      checked={!out.has(e.id)}
                      onChange={() => toggle(e.id)}
                    />
                  )}
                </td>
                <td className="w-6">
                  <MarkIcon letter={h.letter} kind={e.state === "held" ? "held" : "incomplete"} />
                </td>
                <td className="whitespace-nowrap">
                  {e.rowId !== "0" ? (
                    <Link
                      to="/sheets/$sheet"
                      params={{ sheet }}
                      search={{ row: e.rowId }}
                      className="font-[650] hover:underline"
                    >
                      {e.row || "deleted"}
                    </Link>
                  ) : (
                    "several rows"
                  )}
                </td>
                <td className="whitespace-nowrap">{moment(e.at, zone, now)}</td>
                <td className="max-w-60 truncate" title={e.nowTo || e.to}>
                  {e.nowTo || e.to || <span className="bad">no address</span>}
                </td>
                <td className="w-full max-w-0">
                  <button
                    type="button"
                    className="flex w-full items-baseline gap-3 text-left hover:underline"
                    onClick={() => setOpen(e.id)}
                  >
                    <Now e={e} out={out.has(e.id)} />
                  </button>
                  {e.until && (
                    <span className="flex items-baseline gap-3 text-marigold">
                      goes by itself once that is fixed, until {moment(e.until, zone, now)}
                      {may && (
                        <button
                          type="button"
                          className="link"
                          disabled={act.busy}
                          onClick={() => void act.do({ send: [], leaveOut: [e.id] })}
                        >
                          don’t send
                        </button>
                      )}
                    </span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {h.emails.length === 0 && (
          <p className="py-4 text-ink-2">All has been reviewed. What comes from now on goes as the rule says.</p>
        )}
      </Scroll>
      {may && h.held > 0 && (
        <div className="flex flex-wrap items-center gap-3 border-t border-hair px-5 py-3">
          <button
            type="button"
            className="act"
            disabled={act.busy || picked.length === 0}
            onClick={() => void act.do({ send: picked.map((e) => e.id), leaveOut: [] })}
          >
            Send {count(picked.length, "email")} to {count(people, "person", "people")} now
          </button>
          {left.length + stale.length > 0 && (
            <>
              <button
                type="button"
                className="act-plain"
                disabled={act.busy}
                onClick={() =>
                  void act
                    .do({
                      send: [],
                      leaveOut: [...left, ...stale].map((e) => e.id),
                      because: because.trim() || undefined,
                    })
                    .then(() => setBecause(""))
                }
              >
                Don’t send the other {left.length + stale.length}
              </button>
              <input
                className="field w-52"
                aria-label="Why they are left out"
                placeholder="because …"
                maxLength={200}
                value={because}
                onChange={(e) => setBecause(e.target.value)}
              />
            </>
          )}
          <button
            type="button"
            className="act-plain ml-auto text-brick!"
            disabled={act.busy}
            onClick={() =>
              void act.do({
                send: [],
                leaveOut: h.emails.filter((e) => e.state === "held").map((e) => e.id),
                because: because.trim() || undefined,
              })
            }
          >
            Don’t send any
          </button>
        </div>
      )}
      {open && (
        <HeldSlip
          sheet={sheet}
          rule={rule}
          id={open}
          at={`${index + 1} of ${shown.length}`}
          onLeaf={leaf}
          onClose={() => setOpen(undefined)}
        />
      )}
    </div>
  );
}

// Who would get several of the picked ones with one subject, and which of them goes.
const shownDoubles = 3;
type DoublesProps = { page: Schemas["HeldPage"]; out: Set<string>; onOut: (o: Set<string>) => void };
function Doubles({ page: h, out, onOut }: DoublesProps) {
  const doubles = h.doubles
    .map((d) => ({ ...d, emails: d.emails.filter((id) => !out.has(id)) }))
    .filter((d) => d.emails.length > 1);
  if (doubles.length === 0) return null;
  const rows = new Map(h.emails.map((e) => [e.id, e.row || "deleted"]));
  const only = (kept: string, of: string[]) => onOut(new Set([...out, ...of.filter((id) => id !== kept)]));
  const first = () => {
    const next = new Set(out);
    for (const d of doubles) {
      const stay = d.emails.filter((id) => !next.has(id));
      for (const id of stay.slice(1)) next.add(id);
    }
    onOut(next);
  };
  return (
    <ul className="border-t border-hair px-5 py-2" aria-label="Twice to one person">
      {doubles.slice(0, shownDoubles).map((d) => (
        <li key={`${d.address} ${d.subject}`} className="flex flex-wrap items-baseline gap-x-3">
          <span className="text-marigold">
            {d.address} would get {count(d.emails.length, "email")} “{d.subject}”.
          </span>
          <span className="text-ink-2">Only that of</span>
          {d.emails.slice(0, 6).map((id) => (
            <button key={id} type="button" className="link" onClick={() => only(id, d.emails)}>
              {rows.get(id)}
            </button>
          ))}
        </li>
      ))}
      {doubles.length > 1 && (
        <li>
          {doubles.length > shownDoubles && (
            <span className="mr-3 text-marigold">
              {count(doubles.length - shownDoubles, "more person gets", "more get")} several.
            </span>
          )}
          <button type="button" className="link" onClick={first}>
            Only the first to each
          </button>
        </li>
      )}
    </ul>
  );
}

// What would become of it now.
function Now({ e, out }: { e: Held; out: boolean }) {
  if (e.state === "incomplete") return <span className="truncate text-brick">{e.why}</span>;
  if (e.outcome === "incomplete") return <span className="truncate text-brick">could not go now: {e.nowReason}</span>;
  if (e.outcome === "skip") return <span className="truncate">would be skipped: {e.nowReason}</span>;
  return (
    <>
      <span className={`truncate ${out ? "line-through" : "text-ink"}`}>{e.nowSubject || "no subject"}</span>
      {e.changed.length > 0 && (
        <span className="flex-none text-marigold">
          {e.changed.map((c) => `${c.name.toLowerCase()} is ${c.is || "empty"} now`).join(", ")}
        </span>
      )}
    </>
  );
}

type SlipProps = {
  sheet: string;
  rule: string;
  id: string;
  at: string;
  onLeaf: (by: number) => void;
  onClose: () => void;
};
function HeldSlip({ sheet, rule, id, at, onLeaf, onClose }: SlipProps) {
  const q = useQuery({
    queryKey: [...keys.foreseen(sheet), "held", rule, id],
    placeholderData: (old: Schemas["HeldNow"] | undefined) => old,
    queryFn: () =>
      take(
        http.GET("/sheets/{sheet}/rules/{rule}/held/{delivery}", { params: { path: { sheet, rule, delivery: id } } }),
      ),
  });
  const d = q.data;
  const goesNow = d?.email.outcome === "send";
  const shown = goesNow && d ? d.email : d?.held;
  return (
    <Slip
      title="A held email"
      onClose={onClose}
      wide
      head={
        <>
          <span>{at}</span>
          <button type="button" className="link" onClick={() => onLeaf(-1)}>
            previous
            <kbd className="key" aria-hidden>
              ,
            </kbd>
          </button>
          <button type="button" className="link" onClick={() => onLeaf(1)}>
            next
            <kbd className="key" aria-hidden>
              .
            </kbd>
          </button>
        </>
      }
    >
      {q.error && (
        <p role="alert" className="text-brick">
          {words(q.error)}
        </p>
      )}
      {d && shown && (
        <>
          <h2 className="mb-1 font-letter text-[17px]!">{shown.subject || "no subject"}</h2>
          <p className="text-ink-2">
            to {shown.to || "nobody"}
            {shown.cc && `, Cc ${shown.cc}`}
            {goesNow ? " · would go now" : " · as it was held"}
          </p>
          {!goesNow && <p className="mt-1 text-brick">It would not go now: {d.email.reason}.</p>}
          {shown.html && (
            <div className="mt-3">
              <LetterFrame html={shown.html} title="The email" height={360} />
            </div>
          )}
          <Section title="Why it is held">
            <p className="font-letter text-sm leading-[21px]">{d.held.reason}.</p>
          </Section>
          <Section title="Since it was held">
            {d.changed.length === 0 ? (
              <p className="text-ink-2">Nothing in this row has changed.</p>
            ) : (
              d.changed.map((c) => (
                <p key={c.name}>
                  {c.name}: <s className="text-ink-2">{c.was || "empty"}</s> {c.is || "empty"}
                </p>
              ))
            )}
          </Section>
        </>
      )}
    </Slip>
  );
}
