import { existsSync, readFileSync } from "node:fs";
import { isDeepStrictEqual } from "node:util";
import { expect, test } from "@playwright/test";
import { edge, makeAxis, spread } from "../web/src/parts/axis";
import { helpPageOf, helpPages } from "../web/src/parts/helppages";
import { anchorOf, around, found, sectionsOf, titleIn } from "../web/src/parts/helpsearch";
import { daysFrom, isoDay, midnight, moment, plusDays, weekday } from "../web/src/parts/time";
import type { Condition, RuleBody, Sheet } from "../web/src/api/client";
import { Touched } from "../web/src/api/touched";
import {
  changeOf,
  kinds,
  moreOf,
  readRecurrence,
  tidy,
  withKind,
  withParts,
  writeRecurrence,
} from "../web/src/places/rule/model";
import { colIndex, columnAt, layOut, withGaps } from "../web/src/places/sheets/gridlayout";
import { pressed, Typed } from "../web/src/places/sheets/keys";
import { pendingTexts, type Shelf, Unsent, verdict } from "../web/src/places/sheets/unsent";

// The modules of the screens that need no browser.

// A browser's storage, of which several tabs have the same.
function shelf(room = 1e6): Shelf & { map: Map<string, string> } {
  const map = new Map<string, string>();
  return {
    map,
    get length() {
      return map.size;
    },
    key: (i) => [...map.keys()][i] ?? null,
    getItem: (k) => map.get(k) ?? null,
    setItem: (k, v) => {
      if (v.length > room) throw new DOMException("full", "QuotaExceededError");
      map.set(k, v);
    },
    removeItem: (k) => void map.delete(k),
  };
}
const edit = (row: string, text: string) => ({ op: "edit" as const, row, cells: { c1: text } });

test.describe("what has not been sent yet", () => {
  test("two tabs have one queue, in the order of the typing", () => {
    const s = shelf();
    let t = 1000;
    const [a, b] = ["a", "b"].map((page) => new Unsent(s, "unsent:tom:loans", page, () => t++));
    const other = new Unsent(s, "unsent:tom:loans2", "a", () => t++);
    a.add({ id: "1", kind: "edit", steps: [edit("r1", "out")] });
    b.add({ id: "2", kind: "edit", steps: [edit("r1", "in")] });
    other.add({ id: "x", kind: "edit", steps: [edit("r9", "no")] });
    a.add({ id: "3", kind: "edit", steps: [edit("r2", "x")] });
    expect(a.list().map((c) => c.id)).toEqual(["1", "2", "3"]);
    expect(b.list()).toEqual(a.list());
    expect(Object.fromEntries(pendingTexts(a.list()))).toEqual({ "r1|c1": "in", "r2|c1": "x" });
    b.remove("1");
    expect(a.list().map((c) => c.id)).toEqual(["2", "3"]);
    expect(other.list().map((c) => c.id)).toEqual(["x"]);
    // Opened anew, all of it is there.
    expect(new Unsent(s, "unsent:tom:loans", "c").list().map((c) => c.id)).toEqual(["2", "3"]);
  });

  test("a tab takes back its own alone, and not what is on its way", () => {
    const s = shelf();
    const [a, b] = ["a", "b"].map((page) => new Unsent(s, "unsent:tom:loans", page));
    a.add({ id: "1", kind: "edit", steps: [edit("r1", "one")] });
    b.add({ id: "2", kind: "edit", steps: [edit("r1", "two")] });
    expect(a.takeBack("1")).toBeUndefined();
    expect(a.takeBack("2")?.id).toBe("1");
    expect(a.takeBack()).toBeUndefined();
    expect(b.list().map((c) => c.id)).toEqual(["2"]);
  });

  test("a clock that is set back does not turn the order round", () => {
    const s = shelf();
    let t = 5000;
    const a = new Unsent(s, "unsent:tom:loans", "a", () => t);
    a.add({ id: "1", kind: "edit", steps: [edit("r1", "one")] });
    t = 100;
    a.add({ id: "2", kind: "edit", steps: [edit("r1", "two")] });
    expect(a.list().map((c) => c.id)).toEqual(["1", "2"]);
  });

  test("what the storage has no room for, and what in it cannot be read", () => {
    const s = shelf(200);
    const a = new Unsent(s, "unsent:tom:loans", "a");
    a.add({ id: "1", kind: "edit", steps: [edit("r1", "one")] });
    a.add({ id: "2", kind: "paste", steps: [edit("r2", "x".repeat(500))] });
    a.add({ id: "3", kind: "edit", steps: [edit("r3", "three")] });
    s.map.set("unsent:tom:loans:000000000000001:z", "{nonsense");
    s.map.set("unsent:tom:loans:000000000000002:z", '{"id":5}');
    expect(a.list().map((c) => c.id)).toEqual(["1", "2", "3"]);
    a.remove("2");
    expect(a.list().map((c) => c.id)).toEqual(["1", "3"]);
  });

  test("what an answer says of a change", () => {
    const want = {
      taken: [200, 201, 204],
      later: [0, 401, 408, 409, 429, 500, 502, 503],
      refused: [400, 403, 404, 413, 422],
    };
    for (const [v, list] of Object.entries(want))
      for (const status of list) expect(verdict(status), String(status)).toBe(v);
  });
});

test.describe("keys in the grid", () => {
  // What a key comes to, as words.
  const press = (
    key: string,
    more: Partial<Record<"ctrlKey" | "shiftKey" | "altKey" | "metaKey", boolean>> = {},
    at = { row: 5, col: 2 },
    mayEdit = true,
  ) => {
    const did: string[] = [];
    const say =
      (name: string) =>
      (...args: unknown[]) =>
        void did.push([name, ...args].map((x) => (typeof x === "object" ? JSON.stringify(x) : String(x))).join(" "));
    const names = ["insert", "remove", "clear", "fill", "copy", "paste"];
    const acts = Object.fromEntries(names.map((n) => [n, say(n)]));
    const handled = pressed(
      { key, ctrlKey: false, shiftKey: false, altKey: false, metaKey: false, ...more } as never,
      {
        cursor: at,
        sel: { top: at.row, bottom: at.row, left: at.col, right: at.col },
        many: false,
        total: 100,
        page: 20,
        wide: 8,
        mayEdit,
        move: say("move"),
        setAnchor: say("anchor"),
        setCursor: say("cursor"),
        begin: say("begin"),
        acts,
        edits: { undo: say("undo"), redo: say("redo") },
        find: say("find"),
        openRow: say("row"),
        openCell: say("cell"),
        toHead: say("head"),
        leave: say("leave"),
      } as never,
    );
    return handled ? did.join("; ") : "none of the grid's";
  };
  const cases: [string, string, string][] = [
    ["down", press("ArrowDown"), "move 6 2 false"],
    ["down, selecting", press("ArrowDown", { shiftKey: true }), "move 6 2 true"],
    ["to the last row", press("ArrowDown", { ctrlKey: true }), "move 100 2 false"],
    ["up from the first row to the head", press("ArrowUp", {}, { row: 0, col: 2 }), "head"],
    ["a page down", press("PageDown"), "move 25 2 false"],
    ["to the first cell of all", press("Home", { ctrlKey: true }), "move 0 0 false"],
    ["to the next cell", press("Tab"), "move 5 3"],
    ["out of the grid at its end", press("Tab", {}, { row: 5, col: 7 }), "none of the grid's"],
    ["out of the grid at its beginning", press("Tab", { shiftKey: true }, { row: 5, col: 0 }), "none of the grid's"],
    ["typing", press("x"), "begin x"],
    ["typing with Alt is none of the grid's", press("x", { altKey: true }), "none of the grid's"],
    ["editing what stands there", press("Enter"), "begin"],
    ["emptying", press("Delete"), "clear clear"],
    ["emptying is not for readers", press("Delete", {}, { row: 5, col: 2 }, false), "none of the grid's"],
    ["adding rows", press("Enter", { ctrlKey: true }), "insert"],
    ["deleting rows", press("Delete", { ctrlKey: true }), "remove"],
    ["undo", press("z", { ctrlKey: true }), "undo"],
    [
      "redo, both ways",
      `${press("Z", { ctrlKey: true, shiftKey: true })}; ${press("y", { metaKey: true })}`,
      "redo; redo",
    ],
    ["fill down", press("d", { ctrlKey: true }), "fill"],
    ["everything", press("a", { ctrlKey: true }), 'anchor {"row":0,"col":0}; cursor {"row":99,"col":7}'],
    ["the row's slip", press(" "), "row"],
    ["the cell's history", press("F8"), "cell"],
    ["out", press("Escape"), "leave"],
  ];
  for (const [name, got, want] of cases) test(name, () => expect(got).toBe(want));
});

test.describe("days and moments", () => {
  test("days of the calendar, not of 24 hours", () => {
    // In London the clocks go forward on 28 March 2027 and back on 31 October.
    expect(plusDays("2027-03-27", 2)).toBe("2027-03-29");
    expect(plusDays("2027-12-31", 1)).toBe("2028-01-01");
    expect(plusDays("2028-03-01", -1)).toBe("2028-02-29");
    const spring = daysFrom("2027-03-27", 3, "Europe/London");
    expect(spring.iso).toEqual(["2027-03-27", "2027-03-28", "2027-03-29"]);
    expect(spring.starts.map((t) => new Date(t).toISOString())).toEqual([
      "2027-03-27T00:00:00.000Z",
      "2027-03-28T00:00:00.000Z",
      "2027-03-28T23:00:00.000Z",
      "2027-03-29T23:00:00.000Z",
    ]);
    expect(spring.at(Date.parse("2027-03-28T23:00:00Z"))).toBe(2);
    expect(spring.at(Date.parse("2027-03-28T11:30:00Z"))).toBe(1.5);
    const autumn = daysFrom("2027-10-31", 2, "Europe/London");
    expect((autumn.starts[1] ?? 0) - (autumn.starts[0] ?? 0)).toBe(25 * 3600_000);
    expect(autumn.at(Date.parse("2027-11-01T00:00:00Z"))).toBe(1);
  });

  test("midnight in a zone", () => {
    const cases: [string, string, string][] = [
      ["2027-03-16T09:00:00Z", "Europe/London", "2027-03-16T00:00:00.000Z"],
      ["2027-03-28T20:00:00Z", "Europe/London", "2027-03-28T00:00:00.000Z"],
      ["2027-06-10T23:30:00Z", "Europe/London", "2027-06-10T23:00:00.000Z"],
      ["2027-03-16T03:00:00Z", "America/New_York", "2027-03-15T04:00:00.000Z"],
      ["2027-03-16T20:00:00Z", "Asia/Kathmandu", "2027-03-16T18:15:00.000Z"],
    ];
    for (const [at, zone, want] of cases)
      expect(midnight(new Date(at), zone).toISOString(), `${at} ${zone}`).toBe(want);
  });

  test("how they are written", () => {
    const now = new Date("2027-03-16T09:00:00Z");
    expect(moment("2027-03-29T08:00:00Z", "Europe/London", now)).toBe("Mon 29 Mar 09:00");
    expect(moment("2028-01-02T08:00:00Z", "Europe/London", now)).toBe("Sun 2 Jan 2028 08:00");
    expect(isoDay(new Date("2027-03-16T23:30:00Z"), "Asia/Tokyo")).toBe("2027-03-17");
    expect(weekday("2027-03-28")).toBe(0);
  });
});

// Rules of any shape pass through the editor: it keeps the body itself, so that
// what no blank shows stays, and each change touches its own clause alone.
test.describe("a rule in the editor", () => {
  let seed = 20270319;
  const random = (n: number) => {
    seed = (seed * 1103515245 + 12345) % 2 ** 31;
    return Math.floor((seed / 2 ** 31) * n);
  };
  const some = <T>(list: readonly T[]): T => list[random(list.length)] as T;
  const maybe = <T extends object>(x: () => T): Partial<T> => (random(2) ? x() : {});
  const many = <T>(n: number, x: () => T): T[] => Array.from({ length: 1 + random(n) }, x);
  const condition = (deep = 2): Condition => {
    switch (deep > 0 ? random(5) : 4) {
      case 0:
        return { all: many(3, () => condition(deep - 1)) } as Condition;
      case 1:
        return { any: many(3, () => condition(deep - 1)) } as Condition;
      case 2:
        return { not: condition(deep - 1) } as Condition;
    }
    const [op, value] = some([
      ["is", "out"],
      ["one-of", ["out", "overdue"]],
      [">=", 1234.5],
      ["between", [1, { column: "c4" }]],
      ["empty", undefined],
      ["before", { column: "c3" }],
      ["days-away", [-3, 14]],
      ["changed-within", "P2W"],
    ] as const);
    return { column: some(["c1", "c2", "c3"]), op, ...(value === undefined ? {} : { value }) } as unknown as Condition;
  };
  const people = () =>
    many(2, () =>
      some([{ column: "c5" }, { address: "registrar@marrowby.example" }, { person: "rosa@marrowby.example" }]),
    );
  const triggers: (() => RuleBody["trigger"])[] = [
    () => ({
      kind: "date",
      column: "c3",
      offsets: many(3, () => ({
        n: random(30) - 15,
        unit: some(["days", "working-days"] as const),
        ...maybe(() => ({ template: "t2" })),
      })),
      at: "08:50",
      ...maybe(() => ({ every: { unit: "months" as const, n: 3, count: 8 } })),
    }),
    () => ({ kind: "change", column: "c2", to: ["agreed"], ...maybe(() => ({ from: ["out", { column: "c4" }] })) }),
    () => ({
      kind: "threshold",
      column: "c4",
      op: "<",
      limit: { column: "c6" },
      ...maybe(() => ({ rearm: { percent: 10 } })),
    }),
    () => ({ kind: "edited", columns: ["c1", "c2"] }),
    () => ({ kind: "added" }),
    () => ({ kind: "by-hand" }),
    () => ({
      kind: "schedule",
      start: "2027-03-19T15:30",
      rrule: some([null, "FREQ=WEEKLY;INTERVAL=2;BYDAY=SA,SU;WKST=MO", "FREQ=MONTHLY;BYDAY=-1FR;COUNT=9"]),
    }),
  ];
  const rule = (): RuleBody => ({
    name: "Any",
    trigger: some(triggers)(),
    send: many(3, () => ({ template: "t1", ...maybe(() => ({ if: condition() })) })),
    to: people(),
    ...maybe(() => ({ condition: condition() })),
    ...maybe(() => ({ cc: people(), bcc: people() })),
    ...maybe(() => ({ replyTo: people(), each: true })),
    ...maybe(() => ({ zone: "Europe/Lisbon", note: "for the desk" })),
    ...maybe(() => ({ window: { from: "08:00", to: "17:00", workingDays: true }, shift: "earlier" as const })),
    ...maybe(() => ({ repeat: { "not-more-often-than": "P30D" } })),
    ...maybe(() => ({
      sameWords: "skip",
      late: "P3D",
      hold: some(["always", "first-run"] as const),
      brake: { count: 20, share: 0.1 },
    })),
    ...maybe(() => ({
      then: {
        steps: many(3, () => ({
          after: some(["PT1H", "P1W"]),
          template: "t2",
          ...maybe(() => ({ every: "P1W", times: 8, to: people() })),
        })),
        ...maybe(() => ({ stopIf: condition() })),
      },
    })),
  });
  const column = (id: string, type: string) => ({ id, name: id, type, options: [], width: 0 });
  const sheet = {
    zone: "Europe/London",
    derived: [],
    columns: [
      column("c1", "text"),
      column("c2", "choice"),
      column("c3", "date"),
      column("c4", "number"),
      column("c5", "email"),
      column("c6", "number"),
    ],
  } as unknown as Sheet;

  const same = (a: unknown, b: unknown) =>
    isDeepStrictEqual(JSON.parse(JSON.stringify(a ?? null)), JSON.parse(JSON.stringify(b ?? null)));

  test("nothing of it is lost by opening and saving it", () => {
    const lost = Array.from({ length: 2000 }, rule).filter((body) => !same(tidy(body), body));
    expect(lost).toEqual([]);
  });

  test("what is added to the sentence touches nothing else, and is taken out again", () => {
    const wrong: unknown[] = [];
    for (let i = 0; i < 300; i++) {
      const body = rule();
      for (const more of moreOf(body, sheet)) {
        const after = more.add(structuredClone(body));
        const part = more.place.split("/")[1] as keyof RuleBody;
        // A round-up cannot have some parts; who thinks of every year thinks of a repeat by the year.
        const goesWith: Record<string, string[]> = {
          "/groupBy": ["repeat", "then", "each"],
          "/trigger/every": ["repeat"],
        };
        const bound = [part, ...(goesWith[more.place] ?? [])];
        for (const k of Object.keys({ ...body, ...after }) as (keyof RuleBody)[])
          if (!bound.includes(k) && !same(after[k], body[k])) wrong.push([more.words, k, body]);
        if (same(after[part], body[part])) wrong.push([more.words, "adds nothing", body]);
        // A change is put over the rule as it is by now, and back.
        const there = { ...body, ...changeOf(body, after) };
        if (!same({ ...there, ...changeOf(there, body) }, body)) wrong.push([more.words, "is not taken out", body]);
      }
    }
    expect(wrong).toEqual([]);
  });

  test("another kind of trigger keeps the rest, and the first kind comes back as it was", () => {
    const wrong: unknown[] = [];
    for (let i = 0; i < 1000; i++) {
      const body = rule();
      const other = withKind(body, some(kinds).id, sheet, "2027-03-15");
      if (!same({ ...other, trigger: body.trigger }, body)) wrong.push([other, body]);
      const back = withKind(
        other,
        body.trigger.kind as (typeof kinds)[number]["id"],
        sheet,
        "2027-03-15",
        body.trigger,
      );
      if (!same(back, body)) wrong.push([back, body]);
    }
    expect(wrong).toEqual([]);
  });

  test("a recurrence is read and written as it was, with parts that no control knows", () => {
    for (const text of [
      "FREQ=DAILY",
      "FREQ=MONTHLY;BYDAY=2SA;BYHOUR=9;WKST=SU",
      "FREQ=YEARLY;BYWEEKNO=20;BYSETPOS=-1;UNTIL=20280101T000000Z",
    ]) {
      expect(writeRecurrence(readRecurrence(`RRULE:${text.toLowerCase()}`))).toBe(text);
      const without = withParts(withParts(readRecurrence(text), { COUNT: "3" }), { COUNT: undefined });
      expect(writeRecurrence(without)).toBe(text);
    }
  });
});

test("what is typed for a row that is still to come is kept cell by cell", () => {
  const press = (...keys: string[]) => {
    const typed = new Typed();
    const taken = keys.map((key) => typed.take({ key } as never));
    return { ...typed.cells(), taken };
  };
  expect(press("B", "-", "6")).toEqual({ whole: [], open: "B-6", taken: [true, true, true] });
  expect(press("B", "Tab", "Tab", "R", "u")).toEqual({
    whole: ["B", ""],
    open: "Ru",
    taken: [true, true, true, true, true],
  });
  expect(press("B", "Tab", "Enter", "R", "Enter").whole).toEqual(["B", "R"]); // Enter opens an empty cell, and ends a filled one
  expect(press("B", "Enter", "x")).toMatchObject({ whole: ["B"], open: "" });
  expect(press("a", "b", "Backspace", "c").open).toBe("ac");
  expect(press("a", "ArrowUp").taken).toEqual([true, false]);
  expect(press("Escape").taken).toEqual([false]);
});

test("many marks of one day are bundled, and do not spill into the next", () => {
  const axis = makeAxis(new Date("2027-03-15T08:40:00Z"), "Europe/London");
  const mark = (at: string) => ({ at, letter: "A", kind: "coming" as const, line: "", rule: "r", row: "1" });
  const day = (d: string, n: number) =>
    Array.from({ length: n }, (_, i) => mark(`2027-03-${d}T${String(9 + (i % 9)).padStart(2, "0")}:00:00Z`));
  for (const [marks, want] of [
    [[], []],
    [day("16", 1), [0]],
    [day("16", 3), [0, 0, 0]],
    [day("16", 42), [41]],
    [
      [...day("16", 42), ...day("17", 2)],
      [41, 0, 0],
    ],
    [[mark("2026-01-01T09:00:00Z")], []], // long before the axis
  ] as const)
    expect(spread(axis, [...marks]).map((s) => s.more)).toEqual(want);
  // The bundle stands where its day is.
  const at = axis.days.iso.indexOf("2027-03-16");
  const x = spread(axis, day("16", 42))[0]?.x ?? 0;
  expect(x).toBeGreaterThanOrEqual(edge(axis, at));
  expect(x).toBeLessThan(edge(axis, at + 1));
});

test("the places of the columns are counted right, and found again", () => {
  for (const hasKey of [true, false]) {
    const places = [0, 1, 2, 9].map((i) => colIndex(i, hasKey));
    expect(places).toEqual(hasKey ? [1, 3, 4, 11] : [3, 4, 5, 12]);
    expect(places.map((p) => columnAt(p, hasKey))).toEqual([0, 1, 2, 9]);
    expect(columnAt(2, hasKey)).toBe(-1); // the track
  }
  expect(columnAt(1, false)).toBe(-1); // the row's number
});

test.describe("the help", () => {
  const text = (p: string) => readFileSync(`../docs/help/${p}.md`, "utf8");
  const sections = helpPages.flatMap((p) => sectionsOf(p, text(p)));

  test("each place has its page", () => {
    for (const [path, want] of [
      ["/", "today"],
      ["/start", "today"],
      ["/sheets", "sheets"],
      ["/sheets/new", "import"],
      ["/sheets/abc", "sheet"],
      ["/sheets/abc/bring", "import"],
      ["/sheets/abc/rules/new", "rule"],
      ["/sheets/abc/held/r1", "held"],
      ["/sheets/abc/send", "send"],
      ["/sheets/abc/send/b1", "send"],
      ["/templates", "template"],
      ["/templates/abc/t1", "template"],
      ["/log", "log"],
      ["/setup/senders", "setup"],
    ] as const)
      expect(helpPageOf(path, {}), path).toBe(want);
    expect(helpPageOf("/sheets/abc", { slip: "columns" })).toBe("columns");
    expect(helpPageOf("/sheets/abc", { slip: "history" })).toBe("sheet");
  });

  test("every page has a title, and every link and picture in it is there", () => {
    for (const p of helpPages) {
      expect(titleIn(text(p)), p).toBeTruthy();
      for (const [, to = ""] of text(p).matchAll(/\]\(([^)]+)\)/g)) {
        const [file = "", anchor] = to.split("#");
        expect(existsSync(`../docs/help/${file}`), `${p}: ${to}`).toBe(true);
        if (!anchor) continue;
        const page = helpPages.find((x) => `${x}.md` === file);
        expect(
          sections.some((s) => s.page === page && s.anchor === anchor),
          `${p}: ${to}`,
        ).toBe(true);
      }
    }
  });

  test("every word has its meaning and a picture", () => {
    const words = text("words").split(/^## /m).slice(1);
    expect(words.length).toBeGreaterThanOrEqual(19);
    for (const w of words) expect(w, w.split("\n")[0]).toMatch(/!\[[^\]]+\]\(pictures\/[a-z-]+\.png\)/);
  });

  test("a search finds all words, titles first, and shows what is around", () => {
    const hits = found(sections, "  Brake ");
    expect(hits[0]).toMatchObject({ page: "words", title: "Brake" });
    expect(hits.length).toBeGreaterThan(1);
    expect(found(sections, "brake nowhere-to-be-found")).toEqual([]);
    expect(found(sections, "rows").length).toBe(20); // no more are shown
    const long = {
      page: "log" as const,
      title: "Log",
      anchor: "log",
      text: `${"before ".repeat(30)}the needle ${"after ".repeat(40)}`,
    };
    expect(around(long, "needle")).toMatch(/^… before .*the needle after .* …$/);
    expect(around({ ...long, text: "a needle" }, "needle")).toBe("a needle");
  });

  test("a heading's link is that of the documentation", () => {
    expect(anchorOf("Daily cap and pace")).toBe("daily-cap-and-pace");
    expect(anchorOf("Today’s line")).toBe("todays-line");
    expect(anchorOf("In a template, a slip, or what is held")).toBe("in-a-template-a-slip-or-what-is-held");
  });
});

test.describe("the columns that are drawn", () => {
  const column = (id: string, width: number) => ({ id, name: id, type: "text" as const, width, options: [] });
  const columns = Array.from({ length: 6 }, (_, i) => column(`c${i}`, 100 + i)) as unknown as Parameters<
    typeof layOut
  >[0];
  const widths = columns.map((c) => c.width ?? 0);

  for (const hasKey of [true, false])
    test(`whichever are drawn, each stands where it belongs, ${hasKey ? "with" : "without"} a key`, () => {
      const { left, width } = layOut(columns, hasKey, 250, 1);
      const start = left[hasKey ? 1 : 0] ?? 0;
      const first = hasKey ? 1 : 0;
      // Every choice of columns among the six.
      for (let set = 1; set < 64; set++) {
        const shown = [0, 1, 2, 3, 4, 5].filter((i) => i >= first && set & (1 << i));
        let x = start;
        for (const { index, gap } of withGaps(shown, widths, left, start)) {
          expect(gap).toBeGreaterThanOrEqual(0);
          x += gap;
          expect(x, `column ${index} of ${shown.join()}`).toBe(left[index]);
          x += widths[index] ?? 0;
        }
        expect(x).toBeLessThanOrEqual(width);
      }
      expect(withGaps([], widths, left, start)).toEqual([]);
    });
});

test.describe("what is asked again when something has changed", () => {
  const edit = { kinds: ["row-edited"], sheets: ["s"], rows: ["7"] };
  const window = { rows: [{ id: "7" }, { id: "8" }] };
  const other = { rows: [{ id: "1" }] };
  for (const [name, change, key, data, want] of [
    ["a window with the row", edit, ["rows", "s", {}, 0], window, "now"],
    ["a window without it", edit, ["rows", "s", {}, 0], other, "no"],
    ["a window that is on its way", edit, ["rows", "s", {}, 0], undefined, "now"],
    ["a filter that it may have come into", edit, ["rows", "s", { find: "x" }, 0], other, "later"],
    ["a filter that shows it", edit, ["rows", "s", { find: "x" }, 0], window, "now"],
    ["rows of another sheet", edit, ["rows", "z", {}, 0], window, "no"],
    ["the sheet's figures", edit, ["get", "/sheets/{sheet}"], {}, "later"],
    ["who is signed in", edit, ["get", "/session"], {}, "no"],
    ["who is signed in, and a saved person", { ...edit, kinds: ["person-saved"] }, ["get", "/session"], {}, "now"],
    ["the row, opened", edit, ["get", "/sheets/{sheet}/rows/{row}"], {}, "now"],
    ["an added row", { ...edit, kinds: ["row-added"] }, ["rows", "s", {}, 0], other, "now"],
    ["an email of the row", { ...edit, kinds: ["delivery-accepted"] }, ["rows", "s", {}, 0], other, "no"],
    ["an email, and the log", { ...edit, kinds: ["delivery-accepted"] }, ["get", "/log"], {}, "now"],
    ["a saved rule", { ...edit, kinds: ["rule-saved"] }, ["get", "/sheets/{sheet}/rules"], {}, "now"],
    ["everything", { kinds: ["everything"], sheets: [], rows: [] }, ["rows", "z", {}, 0], other, "now"],
  ] as const)
    test(name, () => {
      const touched = new Touched();
      touched.take({ kinds: [...change.kinds], sheets: [...change.sheets], rows: [...change.rows] });
      expect(touched.when(key, data)).toBe(want);
      touched.clear();
      expect(touched.when(key, data)).toBe("no");
    });

  test("more rows than are named touch the whole sheet", () => {
    const touched = new Touched();
    touched.take({ ...edit, rows: Array.from({ length: 201 }, (_, i) => String(i + 100)) });
    expect(touched.when(["rows", "s", {}, 0], other)).toBe("now");
  });
});
