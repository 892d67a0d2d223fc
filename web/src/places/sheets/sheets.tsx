import type { ReactNode } from "react";
import { Link } from "@tanstack/react-router";
import { api } from "../../api/client";
import { Await } from "../../parts/await";
import { useMay, useNow, useZone } from "../../parts/session";
import { count, moment, numberWord, upperFirst } from "../../parts/time";

export function SheetsPlace(): ReactNode {
  const sheets = api.useQuery("get", "/sheets");
  const may = useMay("coordinator");
  const now = useNow();
  const zone = useZone();
  if (!sheets.data) return <Await query={sheets} />;
  const today = sheets.data.reduce((n, s) => n + s.figures.today, 0);
  return (
    <div className="overflow-auto">
      <div className="flex items-baseline gap-6 px-5 pt-[18px] pb-3">
        {sheets.data.length === 0 ? (
          <h1>
            <b>Sheets.</b> There is none yet. Bring a file of rows in, and each row can have its emails.
          </h1>
        ) : (
          <h1>
            <b>Sheets.</b> {upperFirst(numberWord(sheets.data.length))} of them write {count(today, "email")} today.
          </h1>
        )}
        {may && (
          <Link to="/sheets/new" className="link ml-auto">
            Bring a sheet in
          </Link>
        )}
      </div>
      {sheets.data.length > 0 && (
        <div className="mx-5 border-t border-hair">
          <table className="tbl max-w-5xl">
            <thead>
              <tr>
                <th>Sheet</th>
                <th className="text-right!">Rows</th>
                <th className="text-right!">Rules on</th>
                <th className="text-right!">Emails today</th>
                <th>Next</th>
                <th>Needs you</th>
              </tr>
            </thead>
            <tbody>
              {sheets.data.map((s) => (
                <tr key={s.id} className="hover:bg-wash">
                  <td>
                    <Link to="/sheets/$sheet" params={{ sheet: s.id }} className="link text-sm!">
                      {s.name}
                    </Link>
                  </td>
                  <td className="text-right">{s.figures.rows.toLocaleString("en-GB")}</td>
                  <td className="text-right">{s.figures.rulesOn}</td>
                  <td className="text-right">{s.figures.today}</td>
                  <td className="text-ink-2">
                    {s.figures.nextAt
                      ? `${moment(s.figures.nextAt, zone, now)}, ${count(s.figures.nextPeople, "person", "people")}`
                      : "nothing is coming"}
                  </td>
                  <td>
                    {s.figures.needs > 0 ? (
                      <span className="text-brick">{count(s.figures.needs, "email")}</span>
                    ) : (
                      <span className="text-ink-2">nothing</span>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </div>
  );
}
