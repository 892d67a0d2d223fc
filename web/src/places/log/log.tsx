import { useInfiniteQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useMemo, useRef } from "react";
import { base } from "../../api/base";
import { api, http, type LogLine, type Schemas, take } from "../../api/client";
import { keys, ofEmails } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { MarkIcon } from "../../parts/mark";
import { Blank, Choices } from "../../parts/picker";
import { usePrinting } from "../../parts/printing";
import { useMay, useNow, useZone } from "../../parts/session";
import { useKey } from "../../parts/shortcuts";
import { clock, count, dayName, isoDay, longDay, moment } from "../../parts/time";
import type { LogSearch } from "../../routes";
import { DeliverySlip } from "./delivery";
import { TestSlip } from "./test";

const page = getRouteApi("/frame/log");
const shows: Record<string, { name: string; states: string }> = {
  "": { name: "everything", states: "" },
  out: { name: "what went out", states: "accepted" },
  needs: { name: "what needs you", states: "incomplete,missed,held,failed,in-doubt,bounced" },
  failed: { name: "failed and bounced", states: "failed,bounced" },
  doubt: { name: "in doubt", states: "in-doubt" },
  incomplete: { name: "incomplete", states: "incomplete" },
  missed: { name: "missed", states: "missed" },
  held: { name: "held", states: "held" },
  skipped: { name: "skipped", states: "skipped,dropped" },
  way: { name: "on its way", states: "queued,claimed,sending,deferred" },
  tests: { name: "test emails", states: "test" },
};
type Item = { day: string; counts: string } | { line: LogLine };

export function LogPlace(): ReactNode {
  const s = page.useSearch();
  const navigate = useNavigate();
  const put = (more: Partial<LogSearch>) =>
    void navigate({ to: "/log", search: Object.fromEntries(Object.entries({ ...s, ...more }).filter(([, v]) => v)) });
  const zone = useZone();
  const now = useNow(60000);
  const box = useRef<HTMLDivElement>(null);
  const query = {
    sheet: s.sheet,
    rule: s.rule,
    row: s.row,
    since: s.since,
    to: s.to,
    text: s.text,
    state: shows[s.show ?? ""]?.states || undefined,
  };
  const log = useInfiniteQuery({
    queryKey: [...keys.logPages, query],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      take(http.GET("/log", { params: { query: { ...query, cursor: pageParam || undefined, limit: 100 } } })),
    getNextPageParam: (p) => p.next ?? null,
  });
  const pages = useMemo(() => log.data?.pages ?? [], [log.data]);
  const items = useMemo(() => {
    const out: Item[] = [];
    const days = new Map(pages.flatMap((p) => p.days.map((d) => [d.day, d.counts] as const)));
    let last = "";
    for (const p of pages)
      for (const line of p.lines) {
        const day = isoDay(new Date(line.at), zone);
        if (day !== last) {
          last = day;
          out.push({ day: longDay(line.at, zone), counts: countWords(days.get(day) ?? {}) });
        }
        out.push({ line });
      }
    return out;
  }, [pages, zone]);
  const virtual = useVirtualizer({
    count: items.length + (log.hasNextPage ? 1 : 0),
    getScrollElement: () => box.current,
    estimateSize: () => 30,
    overscan: 15,
  });
  const printing = usePrinting();
  const inView = virtual.getVirtualItems();
  const shown = printing ? items.map((_, index) => ({ index, key: index, start: 0 })) : inView;
  const lastShown = inView[inView.length - 1]?.index ?? 0;
  if (!printing && log.hasNextPage && !log.isFetchingNextPage && lastShown >= items.length) void log.fetchNextPage();
  const lines = items.flatMap((i) => ("line" in i ? [i.line] : []));
  const leaf = (by: number) => {
    const at = lines.findIndex((l) => l.id === s.email);
    const next = lines[at + by];
    if (next) put({ email: next.id });
  };
  useKey(",", () => leaf(-1), !!s.email);
  useKey(".", () => leaf(1), !!s.email);
  const csv = new URLSearchParams(Object.entries(query).filter((e): e is [string, string] => !!e[1]));
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="px-5 pt-[18px] pb-2.5">
        <LogTitle
          search={s}
          counts={pages[0]?.counts}
          lines={lines.length}
          back={pages[pages.length - 1]?.back}
          more={log.hasNextPage}
          zone={zone}
          now={now}
        />
      </div>
      <div className="print:hidden flex flex-wrap items-baseline gap-x-4 px-5 pb-2 text-ink-2">
        <LogFilter search={s} zone={zone} now={now} put={put} />
        <a className="link ml-auto" href={`${base}/api/log.csv?${csv}`} download="nivot-log.csv">
          Export as CSV
        </a>
      </div>
      {s.to && <ComingTo to={s.to} zone={zone} now={now} />}
      <div className="relative flex min-h-0 flex-1 border-t border-hair">
        <div
          ref={box}
          className="min-w-0 flex-1 overflow-auto bg-sheet"
          tabIndex={0}
          role="region"
          aria-label="Emails"
        >
          <div
            role="table"
            aria-label="Delivery log"
            aria-rowcount={-1}
            className="print:h-auto!"
            style={{ height: virtual.getTotalSize(), position: "relative" }}
          >
            {log.data === undefined && <Await query={log} />}
            {shown.map((v) => (
              <LogRow
                key={v.key}
                item={items[v.index]}
                back={pages[pages.length - 1]?.back}
                start={v.start}
                zone={zone}
                now={now}
                here={s.email}
                onOpen={(l) => put(l.test ? { test: l.id, email: "" } : { email: l.id, test: "" })}
              />
            ))}
          </div>
        </div>
        {log.hasNextPage && (
          <p className="hidden pt-2 print:block">These are the first {lines.length}; the export as CSV has all.</p>
        )}
        {s.email && <DeliverySlip id={s.email} onClose={() => put({ email: "" })} />}
        {s.test && <TestSlip id={s.test} onClose={() => put({ test: "" })} />}
      </div>
    </div>
  );
}

// What is to come to an address, above what has been.
function ComingTo({ to, zone, now }: { to: string; zone: string; now: Date }) {
  const q = api.useQuery("get", "/coming", { params: { query: { to } } });
  const may = useMay("coordinator");
  const say = useWrite({
    write: (l: Schemas["Coming"]["lines"][number]) =>
      http.POST("/sheets/{sheet}/round-ups/{rule}/{occasion}", {
        params: { path: { sheet: l.sheetId, rule: l.ruleId, occasion: l.occasion } },
        body: { what: l.left ? "as-it-comes" : "leave-out" },
      }),
    changes: [...ofEmails, keys.coming],
  });
  const c = q.data;
  if (!c) return <Await query={q} />;
  return (
    <details className="border-t border-hair-2 px-5 py-2">
      <summary className="cursor-pointer">
        <b>{c.total === 0 ? "Nothing is foreseen" : `${count(c.total, "email")} to come`}</b> to “{to}” in the coming
        four weeks
        {c.partial && ", as far as looked"}
        {c.lines[0] && `, the next ${moment(c.lines[0].at, zone, now)}`}.
      </summary>
      <ul className="mt-1 max-h-56 overflow-auto">
        {c.lines.map((l, i) => (
          <li key={i} className="flex items-baseline gap-3 border-b border-hair-2 py-1">
            <MarkIcon letter={l.letter} kind={l.left ? "skipped" : l.incomplete ? "incomplete" : "coming"} />
            <span className={`w-32 flex-none ${l.left ? "text-ink-2 line-through" : ""}`}>
              {moment(l.at, zone, now)}
            </span>
            {l.rows > 0 ? (
              <span className="flex-none text-ink-2">about {count(l.rows, "row")}</span>
            ) : (
              <Link
                to="/sheets/$sheet"
                params={{ sheet: l.sheetId }}
                search={{ row: l.rowId }}
                className="flex-none hover:underline"
              >
                {l.row}
              </Link>
            )}
            <span className={`min-w-0 flex-1 truncate ${l.left ? "text-ink-2 line-through" : ""}`}>{l.subject}</span>
            {may && l.rows > 0 && (
              <button type="button" className="link" disabled={say.busy} onClick={() => void say.do(l)}>
                {l.left ? "send it after all" : "don’t send"}
              </button>
            )}
            <Link
              to="/sheets/$sheet/rules/$rule"
              params={{ sheet: l.sheetId, rule: l.ruleId }}
              className="text-ink-2 hover:underline"
            >
              {l.rule}, {l.sheet}
            </Link>
          </li>
        ))}
      </ul>
    </details>
  );
}

type TitleProps = {
  search: LogSearch;
  counts?: Record<string, number>;
  lines: number;
  back?: string;
  more: boolean;
  zone: string;
  now: Date;
};

function LogTitle({ search: s, counts, lines, back, more, zone, now }: TitleProps) {
  const c = counts ?? {};
  const bounced = (c.failed ?? 0) + (c.bounced ?? 0);
  return (
    <h1>
      {counts === undefined ? (
        "\u00a0"
      ) : lines === 0 && more ? (
        <>
          <b>The log.</b> Nothing is like this since {back ? longDay(back, zone) : "the latest"}; looking further back
          …
        </>
      ) : lines === 0 ? (
        <>
          <b>The log.</b>{" "}
          {s.show === "tests"
            ? "No test email has been sent yet. A template’s page sends them."
            : s.show || s.sheet || s.to || s.text || s.since
              ? "Nothing is like this."
              : "Nothing has fallen due yet. Once a rule is on, every email stands here, and every one that did not go, with its reason."}
        </>
      ) : s.show === "tests" ? (
        <>
          <b>Test emails.</b> They went to colleagues alone; no rule counts them.
        </>
      ) : Object.keys(counts).length === 0 ? (
        <>
          <span className="figure">{count(lines, "email")}</span>{" "}
          {more ? `so far, looked through back to ${back ? longDay(back, zone) : "here"}.` : "in all."}
        </>
      ) : (
        <>
          {s.since ? `Since ${dayName(`${s.since}T12:00:00Z`, zone, now)}` : "In all"}{" "}
          <span className="figure">{count(c.accepted ?? 0, "email")}</span> went out, {bounced} failed,{" "}
          {c["in-doubt"] ?? 0} {c["in-doubt"] === 1 ? "is" : "are"} in doubt.{" "}
          <span className="figure">{(c.skipped ?? 0).toLocaleString("en-GB")}</span> {c.skipped === 1 ? "was" : "were"}{" "}
          skipped.
        </>
      )}
    </h1>
  );
}

type FilterProps = { search: LogSearch; zone: string; now: Date; put: (more: Partial<LogSearch>) => void };

// Which emails are shown, as a sentence.
function LogFilter({ search: s, zone, now, put }: FilterProps) {
  const sheets = api.useQuery("get", "/sheets");
  const rules = api.useQuery(
    "get",
    "/sheets/{sheet}/rules",
    { params: { path: { sheet: s.sheet ?? "" } } },
    { enabled: !!s.sheet },
  );
  const sheetName = sheets.data?.find((x) => x.id === s.sheet)?.name;
  const ruleName = rules.data?.find((r) => r.id === s.rule)?.body.name;
  return (
    <span>
      Showing{" "}
      <Blank title="Which outcomes" label="Outcome" words={shows[s.show ?? ""]?.name ?? "everything"}>
        <Choices
          name="show"
          value={s.show ?? ""}
          onChoose={(show) => put({ show })}
          items={Object.entries(shows).map(([id, x]) => ({ id, name: x.name }))}
        />
      </Blank>{" "}
      from{" "}
      <Blank title="From which sheet" label="Sheet" words={sheetName ?? "all sheets"}>
        <Choices
          name="sheet"
          value={s.sheet ?? ""}
          onChoose={(sheet) => put({ sheet, rule: "", row: "" })}
          items={[{ id: "", name: "all sheets" }, ...(sheets.data ?? []).map((x) => ({ id: x.id, name: x.name }))]}
        />
      </Blank>
      {s.sheet && (
        <>
          ,{" "}
          <Blank title="By which rule" label="Rule" words={ruleName ?? "any rule"}>
            <Choices
              name="rule"
              value={s.rule ?? ""}
              onChoose={(rule) => put({ rule })}
              items={[
                { id: "", name: "any rule" },
                ...(rules.data ?? []).map((r) => ({ id: r.id, name: r.body.name, note: r.letter })),
              ]}
            />
          </Blank>
        </>
      )}
      {s.row && (
        <>
          ,{" "}
          <button type="button" className="blank" onClick={() => put({ row: "" })}>
            one row
          </button>
        </>
      )}{" "}
      since{" "}
      <Blank
        title="Since which day"
        label="Since"
        words={s.since ? dayName(`${s.since}T12:00:00Z`, zone, now) : "the beginning"}
      >
        <input
          className="field"
          type="date"
          aria-label="Since"
          value={s.since ?? ""}
          onChange={(e) => put({ since: e.target.value })}
        />
      </Blank>
      , to{" "}
      <Blank title="To an address that holds" label="To" words={s.to || "anyone"}>
        <input
          className="field"
          aria-label="Address holds"
          defaultValue={s.to ?? ""}
          onChange={(e) => put({ to: e.target.value.trim() })}
        />
      </Blank>
      , about{" "}
      <Blank title="With a subject that holds" label="Subject" words={s.text || "anything"}>
        <input
          className="field"
          aria-label="Subject holds"
          defaultValue={s.text ?? ""}
          onChange={(e) => put({ text: e.target.value.trim() })}
        />
      </Blank>
    </span>
  );
}

type RowProps = {
  item?: Item;
  back?: string;
  start: number;
  zone: string;
  now: Date;
  here?: string;
  onOpen: (line: LogLine) => void;
};

// A line of the log, or the head of a day.
function LogRow({ item, back, start, zone, now, here, onOpen }: RowProps) {
  const style = { transform: `translateY(${start}px)` };
  if (!item)
    return (
      <div role="row" className="absolute px-5 py-1.5 text-ink-2" style={style}>
        <span role="cell">{back ? `looking further back than ${longDay(back, zone)} …` : "more …"}</span>
      </div>
    );
  if ("day" in item)
    return (
      <div
        role="row"
        className="print:static! print:transform-none! absolute flex h-[30px] w-full items-end gap-2.5 border-b border-hair bg-paper px-5 pb-1 font-[650]"
        style={style}
      >
        <span role="rowheader">
          {item.day} <small className="ml-2 text-[13px] font-[450] text-ink-2">{item.counts}</small>
        </span>
      </div>
    );
  const l = item.line;
  return (
    <div
      role="row"
      className={`print:static! print:transform-none! absolute flex h-[30px] w-full items-center gap-3.5 border-b border-hair-2 px-5 whitespace-nowrap hover:bg-wash ${l.id === here ? "bg-wash" : ""}`}
      style={style}
    >
      <span role="cell" className="w-10 flex-none" title={l.at}>
        {clock(l.at, zone)}
      </span>
      <span role="cell" className="flex-none leading-none">
        {l.test ? <TestMark /> : <MarkIcon letter={l.letter} kind={l.kind} />}
      </span>
      <span role="cell" className={`w-[216px] flex-none truncate ${l.to ? "" : "text-ink-2"}`}>
        {l.to || "nobody"}
      </span>
      <span role="cell" className="min-w-0 flex-1 basis-72 truncate">
        <button type="button" className="max-w-full truncate text-left hover:underline" onClick={() => onOpen(l)}>
          {l.until ? (
            <span className="text-marigold">
              goes by itself once that is fixed, until {moment(l.until, zone, now)}
            </span>
          ) : (
            l.subject || l.rule
          )}
        </button>
      </span>
      <span role="cell" className="w-20 flex-none truncate max-lg:hidden">
        {l.row}
      </span>
      <span role="cell" className="w-28 flex-none truncate text-ink-2 max-lg:hidden">
        {l.test ? "a test" : l.rule}
      </span>
      <span role="cell" className="w-64 flex-none truncate text-ink-2 max-md:w-32" title={l.outcome}>
        {l.outcome}
      </span>
    </div>
  );
}

// A test is no occasion: it has no rule's letter, and no shape of an outcome.
function TestMark() {
  return (
    <span
      role="img"
      aria-label="test email"
      title="A test email"
      className="inline-block w-4.5 text-center font-letter text-ink-2 italic"
    >
      t
    </span>
  );
}

function countWords(c: Record<string, number>): string {
  const n = (...states: string[]) => states.reduce((sum, s) => sum + (c[s] ?? 0), 0);
  const parts: [number, string][] = [
    [n("accepted"), "out"],
    [n("failed", "bounced"), "refused"],
    [n("in-doubt"), "in doubt"],
    [n("held"), "held"],
    [n("incomplete"), "incomplete"],
    [n("missed"), "missed"],
    [n("queued", "claimed", "sending", "deferred"), "on the way"],
    [n("skipped", "dropped"), "skipped"],
  ];
  return parts
    .filter(([k]) => k > 0)
    .map(([k, w]) => `${k} ${w}`)
    .join(", ");
}
