// The rows that were picked in a sheet to be sent to: kept for this tab, as they
// may be more than an address holds.
const key = (sheet: string) => `picked:${sheet}`;

export function pick(sheet: string, rows: string[]): void {
  sessionStorage.setItem(key(sheet), JSON.stringify(rows));
}

export function pickedOf(sheet: string): string[] {
  try {
    const rows: unknown = JSON.parse(sessionStorage.getItem(key(sheet)) ?? "[]");
    return Array.isArray(rows) ? rows.filter((r): r is string => typeof r === "string") : [];
  } catch {
    return [];
  }
}
