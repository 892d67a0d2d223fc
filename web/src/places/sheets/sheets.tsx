import type { ReactNode } from "react";
import { Link, useNavigate } from "@tanstack/react-router";
import { api, http, type Sheet } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { DropRows, handOver } from "../../parts/dropfile";
import { Restorable } from "../../parts/restorable";
import { useMay, useNow, useZone } from "../../parts/session";
import { SheetActs } from "./sheetacts";
import { count, moment, numberWord, upperFirst } from "../../parts/time";

export function SheetsPlace(): ReactNode {
  const sheets = api.useQuery("get", "/sheets");
  const may = useMay("coordinator");
  const now = useNow();
  const navigate = useNavigate();
  const zone = useZone();
  if (!sheets.data) return <Await query={sheets} />;
  const today = sheets.data.reduce((n, s) => n + s.figures.today, 0);
  const bring = (file: File) => {
    handOver(file);
    void navigate({ to: "/sheets/new" });
  };
  return (
    <DropRows onFile={may ? bring : undefined} words="Drop the file to make a sheet of its rows">
      <div className="min-h-0 flex-1 overflow-auto">
        <div className="flex items-baseline gap-6 px-5 pt-[18px] pb-3">
          {sheets.data.length === 0 ? (
            <h1>
              <b>Sheets.</b> There is none yet. Import a file of rows, and each row can have its emails.
            </h1>
          ) : (
            <h1>
              <b>Sheets.</b> {upperFirst(numberWord(sheets.data.length))} of them write {count(today, "email")} today.
            </h1>
          )}
          {may && sheets.data.length > 0 && (
            <Link to="/sheets/new" className="link ml-auto">
              New sheet
            </Link>
          )}
        </div>
        {may && sheets.data.length === 0 && (
          <p className="flex flex-wrap items-center gap-4 px-5 pt-2">
            <Link to="/sheets/new" className="act">
              New sheet
            </Link>
            <span className="text-ink-2">or drop a CSV file or a workbook here</span>
          </p>
        )}
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
                  {may && <th />}
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
                    <td className="text-right" data-label="Rows">
                      {s.figures.rows.toLocaleString("en-GB")}
                    </td>
                    <td className="text-right" data-label="Rules on">
                      {s.figures.rulesOn}
                    </td>
                    <td className="text-right" data-label="Emails today">
                      {s.figures.today}
                    </td>
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
                    {may && (
                      <td className="text-right">
                        <SheetActs sheet={s} words="Change …" />
                      </td>
                    )}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
        {may && <AwaySheets />}
      </div>
    </DropRows>
  );
}

// The sheets that have been put away, and those deleted lately.
function AwaySheets() {
  const q = api.useQuery("get", "/away-sheets");
  const back = useWrite<string, Sheet>({
    write: (sheet) => http.POST("/sheets/{sheet}/restore", { params: { path: { sheet } } }),
    changes: [keys.sheets, keys.awaySheets, keys.today, keys.templates],
    saved: (s) => `${s.name} is restored. Its rules are paused.`,
  });
  if (!q.data?.length) return null;
  const list = (deleted: boolean, title: string) => (
    <Restorable
      title={title}
      list={q.data.filter((s) => s.deleted === deleted)}
      of={(s) => s}
      shown={(s) =>
        !s.deleted && (
          <Link to="/sheets/$sheet" params={{ sheet: s.id }} className="link">
            {s.name}
          </Link>
        )
      }
      more={(s) => count(s.rows, "row")}
      busy={back.busy}
      onRestore={(s) => void back.do(s.id)}
    />
  );
  return (
    <div className="mx-5">
      {list(false, "Put away")}
      {list(true, "Deleted, and kept for 30 days")}
    </div>
  );
}
