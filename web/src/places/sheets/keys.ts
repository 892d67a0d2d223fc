import type { Acts, At, Box } from "./acts";
import type { Edits } from "./edits";

type Grid = {
  cursor: At;
  sel: Box;
  many: boolean;
  total: number;
  page: number; // rows
  wide: number; // columns
  mayEdit: boolean;
  move: (row: number, col: number, extend?: boolean) => void;
  setAnchor: (a: At) => void;
  setCursor: (a: At) => void;
  begin: (text?: string) => void;
  acts: Acts;
  edits: Edits;
  find: () => void;
  openRow: () => void;
  openCell: () => void;
  toHead: () => void;
  leave: () => void;
};

/** What is typed for a row that is not here yet: its cells from the first on. */
export class Typed {
  private list = [""];
  private done = false;

  /** Takes a key that writes, or goes on to the next cell; false for one that goes elsewhere. */
  take(e: React.KeyboardEvent): boolean {
    const last = this.list.length - 1;
    const text = this.list[last] ?? "";
    if (e.key === "Tab" && !e.shiftKey) this.list.push("");
    else if (e.key === "Backspace") this.list[last] = text.slice(0, -1);
    else if (e.key === "Enter") this.done ||= text !== "";
    else if (e.key.length === 1 && !e.ctrlKey && !e.metaKey && !this.done) this.list[last] = text + e.key;
    else return ["F2", "Delete", "Shift"].includes(e.key) || e.key.length === 1;
    return true;
  }

  /** Gives the cells that are whole, and what stands in the one behind them. */
  cells(): { whole: string[]; open: string } {
    return this.done
      ? { whole: this.list, open: "" }
      : { whole: this.list.slice(0, -1), open: this.list[this.list.length - 1] ?? "" };
  }
}

// What a key does in the grid; false says that it is none of the grid's.
export function pressed(e: React.KeyboardEvent, g: Grid): boolean {
  const ctrl = e.ctrlKey || e.metaKey;
  const go = (r: number, c: number) => g.move(r, c, e.shiftKey);
  const k = ctrl ? e.key.toLowerCase() : e.key;
  if (e.key === "ArrowUp" && g.cursor.row === 0 && !ctrl && !e.shiftKey) g.toHead();
  else if (e.key === "ArrowUp") go(ctrl ? 0 : g.cursor.row - 1, g.cursor.col);
  else if (e.key === "ArrowDown") go(ctrl ? g.total : g.cursor.row + 1, g.cursor.col);
  else if (e.key === "ArrowLeft") go(g.cursor.row, ctrl ? 0 : g.cursor.col - 1);
  else if (e.key === "ArrowRight") go(g.cursor.row, ctrl ? g.wide : g.cursor.col + 1);
  else if (e.key === "PageUp") go(g.cursor.row - g.page, g.cursor.col);
  else if (e.key === "PageDown") go(g.cursor.row + g.page, g.cursor.col);
  else if (e.key === "Home") go(ctrl ? 0 : g.cursor.row, 0);
  else if (e.key === "End") go(ctrl ? g.total : g.cursor.row, g.wide);
  else if (e.key === "Tab") {
    if (e.shiftKey ? g.cursor.col === 0 : g.cursor.col === g.wide - 1) return false;
    g.move(g.cursor.row, g.cursor.col + (e.shiftKey ? -1 : 1));
  } else if (ctrl && e.key === "Enter" && g.mayEdit) g.acts.insert();
  else if (ctrl && (e.key === "Delete" || e.key === "Backspace") && g.mayEdit) g.acts.remove();
  else if (e.key === "Enter" || e.key === "F2") g.begin();
  else if (e.key === "F8") g.openCell();
  else if ((e.key === "Delete" || e.key === "Backspace") && g.mayEdit) g.acts.clear("clear");
  else if (e.key === " " && e.shiftKey) {
    g.setAnchor({ row: g.sel.top, col: 0 });
    g.setCursor({ row: g.sel.bottom, col: g.wide - 1 });
  } else if (e.key === " ") {
    g.openRow();
  } else if (e.key === "Escape") {
    if (g.many) g.setAnchor(g.cursor);
    else g.leave();
  } else if (ctrl && k === "a") {
    g.setAnchor({ row: 0, col: 0 });
    g.setCursor({ row: Math.max(0, g.total - 1), col: g.wide - 1 });
  } else if (ctrl && k === "z") {
    if (e.shiftKey) g.edits.redo();
    else g.edits.undo();
  } else if (ctrl && k === "y") g.edits.redo();
  else if (ctrl && k === "d" && g.mayEdit) g.acts.fill();
  else if (ctrl && k === "f") g.find();
  else if (!ctrl && !e.altKey && e.key.length === 1) g.begin(e.key);
  else return false;
  return true;
}
