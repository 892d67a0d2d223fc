// A table as text: cells parted by tabs, rows by line breaks, a cell in double
// quotes where it holds either, with its own quotes doubled (RFC 4180 with a
// tab for the comma). It is what programs put on the clipboard.

export function writeTable(rows: string[][]): string {
  return rows
    .map((r) => r.map((c) => (/[\t\r\n"]/.test(c) ? `"${c.replaceAll('"', '""')}"` : c)).join("\t"))
    .join("\n");
}

export function readTable(text: string): string[][] {
  const rows: string[][] = [];
  let row: string[] = [];
  let i = 0;
  const n = text.length;
  while (i <= n) {
    let cell = "";
    if (text[i] === '"') {
      // Quoted, unless the quote is never closed or does not end the cell.
      const q = quoted(text, i);
      if (q) {
        cell = q.cell;
        i = q.end;
      } else [cell, i] = plain(text, i);
    } else [cell, i] = plain(text, i);
    row.push(cell);
    if (text[i] === "\t") {
      i++;
      continue;
    }
    rows.push(row);
    row = [];
    if (i >= n) break;
    i += text[i] === "\r" && text[i + 1] === "\n" ? 2 : 1;
    if (i >= n) break; // the line break at the end begins no row
  }
  return rows;
}

function plain(text: string, at: number): [string, number] {
  let end = at;
  while (end < text.length && text[end] !== "\t" && text[end] !== "\n" && text[end] !== "\r") end++;
  return [text.slice(at, end), end];
}

function quoted(text: string, at: number): { cell: string; end: number } | null {
  let cell = "";
  for (let i = at + 1; i < text.length; i++) {
    if (text[i] !== '"') cell += text[i];
    else if (text[i + 1] === '"') {
      cell += '"';
      i++;
    } else {
      const next = text[i + 1];
      return next === undefined || next === "\t" || next === "\n" || next === "\r" ? { cell, end: i + 1 } : null;
    }
  }
  return null;
}
