// How a template was saved before: who and when, what has changed since, and putting one back.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, http, type Schemas, type Sheet, take } from "../../api/client";
import { keys } from "../../api/keys";
import { useZone } from "../../parts/session";
import { Slip } from "../../parts/slip";
import { moment } from "../../parts/time";
import { Differing } from "./differing";

type Body = Schemas["TemplateBody"];
type Props = {
  sheet: Sheet;
  template: string;
  now: Body; // as it is written now
  row?: string; // the row that is looked at
  may: boolean;
  onPut: (t: Body) => void;
  onClose: () => void;
};

export function Versions({ sheet, template, now, row, may, onPut, onClose }: Props) {
  const path = { sheet: sheet.id, template };
  const zone = useZone();
  const list = api.useQuery("get", "/sheets/{sheet}/templates/{template}/versions", { params: { path } });
  const [picked, setPicked] = useState<number>();
  const [against, setAgainst] = useState<number>(); // none: as it is written now
  const shown = picked ?? list.data?.[0]?.version;
  const one = useVersion(path, shown);
  const other = useVersion(path, against);
  const left = useLetter(sheet.id, one.data?.content, row);
  const right = useLetter(sheet.id, against === undefined ? now : other.data?.content, row);
  const name = (v: Schemas["TemplateVersion"]) =>
    `version ${v.version}, ${moment(v.at, zone, new Date())}${v.by ? `, ${v.by}` : ""}`;
  return (
    <Slip
      title="Versions"
      onClose={onClose}
      wide
      foot={
        may &&
        one.data?.content && (
          <button type="button" className="act" onClick={() => one.data.content && onPut(one.data.content)}>
            Restore version {one.data.version}, to be saved
          </button>
        )
      }
    >
      <h2 className="mt-1 mb-2">Versions</h2>
      <p className="mb-3 text-ink-2">
        Each saving is kept as it was. What has been sent stays in the log as it left, whatever becomes of the
        template.
      </p>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <label className="flex items-center gap-2">
          Show
          <select className="field" value={shown ?? ""} onChange={(e) => setPicked(Number(e.target.value))}>
            {list.data?.map((v) => (
              <option key={v.version} value={v.version}>
                {name(v)}
              </option>
            ))}
          </select>
        </label>
        <label className="flex items-center gap-2">
          beside
          <select
            className="field"
            value={against ?? ""}
            onChange={(e) => setAgainst(e.target.value === "" ? undefined : Number(e.target.value))}
          >
            <option value="">as it is written now</option>
            {list.data?.map((v) => (
              <option key={v.version} value={v.version}>
                {name(v)}
              </option>
            ))}
          </select>
        </label>
      </div>
      <div className="mt-3 grid grid-cols-2 gap-4 max-sm:grid-cols-1">
        <Differing name={one.data ? name(one.data) : ""} of={left.data} other={right.data} />
        <Differing
          name={against === undefined ? "as it is written now" : other.data ? name(other.data) : ""}
          of={right.data}
          other={left.data}
        />
      </div>
    </Slip>
  );
}

function useVersion(path: { sheet: string; template: string }, version: number | undefined) {
  return useQuery({
    queryKey: [...keys.template, "version", path.template, version],
    enabled: version !== undefined,
    staleTime: Infinity, // it never changes
    queryFn: () =>
      take(
        http.GET("/sheets/{sheet}/templates/{template}/versions/{version}", {
          params: { path: { ...path, version: version ?? 0 } },
        }),
      ),
  });
}

// The letter of a version for the row that is looked at, its fields by the row's values.
function useLetter(sheet: string, template: Body | undefined, row: string | undefined) {
  return useQuery({
    queryKey: [...keys.preview(sheet), "version", template, row],
    enabled: template !== undefined,
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/preview", {
          params: { path: { sheet } },
          body: { template: template as Body, row },
        }),
      ),
  });
}
