import type { Session } from "../api/client";

const parts = new Map<string, Intl.DateTimeFormat>();
function format(zone: string, options: Intl.DateTimeFormatOptions, key: string) {
  const k = zone + key;
  let f = parts.get(k);
  if (!f) {
    f = new Intl.DateTimeFormat("en-GB", { timeZone: zone, ...options });
    parts.set(k, f);
  }
  return f;
}
function pieces(at: Date, zone: string) {
  const p = Object.fromEntries(
    format(
      zone,
      {
        weekday: "short",
        day: "numeric",
        month: "short",
        year: "numeric",
        hour: "2-digit",
        minute: "2-digit",
        second: "2-digit",
        hourCycle: "h23",
      },
      "all",
    )
      .formatToParts(at)
      .map((x) => [x.type, x.value]),
  ) as Record<string, string>;
  p.month = (p.month ?? "").slice(0, 3);
  return p;
}
// "Tue 16 Mar 09:00", the year only when it is another.
export function moment(at: string | Date, zone: string, now: Date): string {
  const p = pieces(new Date(at), zone);
  const year = p.year !== pieces(now, zone).year ? ` ${p.year}` : "";
  return `${p.weekday} ${p.day} ${p.month}${year} ${p.hour}:${p.minute}`;
}
export function dayName(at: string | Date, zone: string, now: Date): string {
  const p = pieces(new Date(at), zone);
  const year = p.year !== pieces(now, zone).year ? ` ${p.year}` : "";
  return `${p.weekday} ${p.day} ${p.month}${year}`;
}
export function longDay(at: string | Date, zone: string): string {
  return format(zone, { weekday: "long", day: "numeric", month: "long" }, "long")
    .format(new Date(at))
    .replace(",", "");
}
export function clock(at: string | Date, zone: string): string {
  const p = pieces(new Date(at), zone);
  return `${p.hour}:${p.minute}`;
}
export function seconds(at: string | Date, zone: string): string {
  const p = pieces(new Date(at), zone);
  return `${p.hour}:${p.minute}:${p.second}`;
}
// The calendar day in a zone, as ISO.
export function isoDay(at: Date, zone: string): string {
  const p = Object.fromEntries(
    format(zone, { year: "numeric", month: "2-digit", day: "2-digit" }, "iso")
      .formatToParts(at)
      .map((x) => [x.type, x.value]),
  );
  return `${p.year}-${p.month}-${p.day}`;
}
// The instant at which a day begins in a zone.
export function midnight(at: Date, zone: string): Date {
  return dayStart(isoDay(at, zone), zone);
}
function dayStart(iso: string, zone: string): Date {
  let guess = new Date(`${iso}T00:00:00Z`);
  for (let i = 0; i < 2; i++) {
    const p = pieces(guess, zone);
    const minutes = Number(p.hour) * 60 + Number(p.minute);
    const ahead = isoDay(guess, zone) < iso ? minutes - 1440 : minutes;
    guess = new Date(guess.getTime() - ahead * 60000);
  }
  return guess;
}
// A day some days after another, both ISO: days of the calendar, not of 24 hours.
export function plusDays(iso: string, n: number): string {
  const d = new Date(`${iso}T00:00:00Z`);
  d.setUTCDate(d.getUTCDate() + n);
  return d.toISOString().slice(0, 10);
}
// The days of a zone in a row: their dates and the instants at which they begin,
// and where an instant falls in them, counted in days from the first (a day in
// which the clocks change is as wide as the others).
export type Days = { iso: string[]; starts: number[]; at: (t: number) => number };
export function daysFrom(first: string, n: number, zone: string): Days {
  const iso = Array.from({ length: n + 1 }, (_, i) => plusDays(first, i));
  const starts = iso.map((d) => dayStart(d, zone).getTime());
  const at = (t: number) => {
    let i = 0;
    while (i < n - 1 && (starts[i + 1] ?? 0) <= t) i++;
    const from = starts[i] ?? 0;
    return i + (t - from) / ((starts[i + 1] ?? from) - from);
  };
  return { iso: iso.slice(0, n), starts, at };
}
// The weekday of an ISO day, 0 for Sunday, and how it is written on an axis.
export const weekday = (iso: string) => new Date(`${iso}T00:00:00Z`).getUTCDay();
export const dayOfMonth = (iso: string) => Number(iso.slice(8));
export function shortMonth(iso: string): string {
  return new Date(`${iso}T00:00:00Z`).toLocaleString("en-GB", { month: "short", timeZone: "UTC" }).slice(0, 3);
}
// The server's time now, ticking on from when the session was read.
export function nowOf(session: Session | undefined, readAt: number): Date {
  if (!session) return new Date();
  return new Date(new Date(session.clock.now).getTime() + (Date.now() - readAt));
}
export function count(n: number, one: string, many = `${one}s`): string {
  return `${n.toLocaleString("en-GB")} ${n === 1 ? one : many}`;
}
const small = [
  "no",
  "one",
  "two",
  "three",
  "four",
  "five",
  "six",
  "seven",
  "eight",
  "nine",
  "ten",
  "eleven",
  "twelve",
];
export function numberWord(n: number): string {
  return small[n] ?? n.toLocaleString("en-GB");
}
export function upperFirst(s: string): string {
  return s.charAt(0).toUpperCase() + s.slice(1);
}
