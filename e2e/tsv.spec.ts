import { expect, test } from "@playwright/test";
import { readTable, writeTable } from "../web/src/places/sheets/tsv";

// Tables as programs put them on the clipboard.
test("a table is read as it was written", () => {
  const cases: [string, string[][]][] = [
    ["", [[""]]],
    ["a", [["a"]]],
    ["a\tb\nc\td\n", [["a", "b"], ["c", "d"]]], // prettier-ignore
    ["a\tb\r\nc\td", [["a", "b"], ["c", "d"]]], // prettier-ignore
    ["a\n\nb", [["a"], [""], ["b"]]],
    ['"a\tb"\tc', [["a\tb", "c"]]],
    ['"two\nlines"\t"with ""quotes"""', [["two\nlines", 'with "quotes"']]],
    ['6" nail\t"not closed', [['6" nail', '"not closed']]],
    ['"closed" and more\tx', [['"closed" and more', "x"]]],
    ["\t\t", [["", "", ""]]],
  ];
  for (const [text, table] of cases) expect(readTable(text), JSON.stringify(text)).toEqual(table);
});

test("whatever cells hold, they come back", () => {
  const pieces = ["a", "\t", "\n", '"', "\r\n", " ", "é", "=1+1", "", '""', "'"];
  let seed = 1832;
  const next = (n: number) => {
    seed = (seed * 1103515245 + 12345) % 2147483648;
    return seed % n;
  };
  for (let i = 0; i < 2000; i++) {
    const wide = 1 + next(4);
    const table = Array.from({ length: 1 + next(4) }, () =>
      Array.from({ length: wide }, () => Array.from({ length: next(4) }, () => pieces[next(pieces.length)]).join("")),
    );
    // A single empty cell at the end is no row of its own.
    if (wide === 1 && table[table.length - 1]?.[0] === "") continue;
    expect(readTable(writeTable(table))).toEqual(table);
  }
});
