import type { ReactNode } from "react";
import { getRouteApi, Link } from "@tanstack/react-router";
import { api, type Sheet } from "../../api/client";
import { Await } from "../../parts/await";
import { FormPart } from "./form";
import { FromFile } from "./fromfile";
import { ProgramsPart } from "./programs";
import { SourcePart } from "./source";

const ways = [
  { id: "file", name: "A file or a pasted table", show: FromFile },
  { id: "source", name: "A file that somebody else keeps", show: SourcePart },
  { id: "form", name: "A form", show: FormPart },
  { id: "programs", name: "Other programs", show: ProgramsPart },
] as const;

const page = getRouteApi("/frame/sheets/$sheet/bring");

// The ways in which rows come into a sheet.
export function BringPlace(): ReactNode {
  const { sheet: id } = page.useParams();
  const { from } = page.useSearch();
  const q = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: id } } });
  const way = ways.find((w) => w.id === from) ?? ways[0];
  if (!q.data) return <Await query={q} />;
  const sheet: Sheet = q.data;
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="px-5 pt-[18px] pb-2.5">
        <h1>
          Rows for{" "}
          <Link
            to="/sheets/$sheet"
            params={{ sheet: id }}
            className="font-semibold underline decoration-1 underline-offset-4"
          >
            {sheet.name}
          </Link>{" "}
          come from a file, by a form, or from other programs.
        </h1>
      </div>
      <nav aria-label="Ways in" className="flex flex-none flex-wrap gap-6 px-5 pb-2">
        {ways.map((w) => (
          <Link
            key={w.id}
            to="/sheets/$sheet/bring"
            params={{ sheet: id }}
            search={{ from: w.id }}
            aria-current={w === way ? "page" : undefined}
            className={w === way ? "border-b-[1.5px] border-ink font-[650]" : "text-ink-2 hover:text-ink"}
          >
            {w.name}
          </Link>
        ))}
      </nav>
      <div className="flex min-h-0 flex-1 flex-col border-t border-hair">
        <way.show sheet={sheet} />
      </div>
    </div>
  );
}
