// Durations (ISO 8601) of one unit, as they are edited.
export const units = ["minutes", "hours", "days", "weeks"] as const;
export type Unit = (typeof units)[number];
export type Duration = { n: number; unit: Unit };
const letters: Record<Unit, [string, string]> = {
  minutes: ["PT", "M"],
  hours: ["PT", "H"],
  days: ["P", "D"],
  weeks: ["P", "W"],
};

/** Reads a duration of one unit (ISO 8601); others are edited as text. */
export function readDuration(iso: string | undefined): Duration | undefined {
  const m = /^P(?:(\d+)([DW])|T(\d+)([HM]))$/.exec(iso ?? "");
  if (!m) return undefined;
  const unit = { D: "days", W: "weeks", H: "hours", M: "minutes" }[m[2] ?? m[4] ?? ""] as Unit;
  return { n: Number(m[1] ?? m[3]), unit };
}
export const writeDuration = ({ n, unit }: Duration): string => letters[unit][0] + String(n) + letters[unit][1];

/** "a week", "3 days"; of several units, its text. */
export function durationWords(iso: string): string {
  const d = readDuration(iso);
  if (!d) return iso;
  return d.n === 1 ? `${d.unit === "hours" ? "an" : "a"} ${d.unit.slice(0, -1)}` : `${d.n} ${d.unit}`;
}
