import { type ReactNode, useState } from "react";
import { Link } from "@tanstack/react-router";
import { api } from "../../api/client";
import { Await } from "../../parts/await";
import { Blank } from "../../parts/picker";
import { useMay } from "../../parts/session";
import { count, numberWord, upperFirst } from "../../parts/time";
import { PieceOpen, Pieces } from "./pieces";

export function TemplatesPlace(): ReactNode {
  const templates = api.useQuery("get", "/templates");
  const sheets = api.useQuery("get", "/sheets");
  const may = useMay("coordinator");
  const [piece, setPiece] = useState<string>();
  if (!templates.data) return <Await query={templates} />;
  if (!sheets.data) return <Await query={sheets} />;
  return (
    <div className="relative flex min-h-0 flex-1">
      <div className="min-h-0 flex-1 overflow-auto">
        <div className="flex items-baseline gap-6 px-5 pt-[18px] pb-3">
          {templates.data.length === 0 ? (
            <h1>
              <b>Templates.</b> None yet.{" "}
              {sheets.data.length === 0
                ? "A template is written for a sheet; make a sheet first."
                : "A template is an email with the row’s own values in it."}
            </h1>
          ) : (
            <h1>
              <b>Templates.</b> {upperFirst(numberWord(templates.data.length))}, for{" "}
              {count(sheets.data.length, "sheet")}.
            </h1>
          )}
          {may && sheets.data.length > 0 && (
            <span className="ml-auto">
              <Blank title="A template for which sheet" words="Write a template">
                <div className="flex flex-col items-start gap-1.5">
                  {sheets.data.map((s) => (
                    <Link
                      key={s.id}
                      to="/templates/$sheet/$template"
                      params={{ sheet: s.id, template: "new" }}
                      className="link"
                    >
                      {s.name}
                    </Link>
                  ))}
                </div>
              </Blank>
            </span>
          )}
          {may && sheets.data.length === 0 && (
            <Link to="/sheets/new" className="act ml-auto">
              New sheet
            </Link>
          )}
        </div>
        {templates.data.length > 0 && (
          <div className="mx-5 border-t border-hair">
            <table className="tbl max-w-5xl">
              <thead>
                <tr>
                  <th>Template</th>
                  <th>Subject</th>
                  <th>Sheet</th>
                  <th>Used by</th>
                </tr>
              </thead>
              <tbody>
                {templates.data.map((t) => (
                  <tr key={t.id} className="hover:bg-wash">
                    <td>
                      <Link
                        to="/templates/$sheet/$template"
                        params={{ sheet: t.sheet, template: t.id }}
                        className="link text-sm!"
                      >
                        {t.name}
                      </Link>
                    </td>
                    <td className="font-letter">{t.line}</td>
                    <td>
                      <Link to="/sheets/$sheet" params={{ sheet: t.sheet }} className="hover:underline">
                        {t.sheetName}
                      </Link>
                    </td>
                    <td className="text-ink-2">
                      {t.usedBy.length === 0 ? "no rule" : t.usedBy.map((u) => `${u.letter} ${u.name}`).join(", ")}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
        <Pieces onOpen={setPiece} />
      </div>
      {piece && <PieceOpen id={piece} onClose={() => setPiece(undefined)} />}
    </div>
  );
}
