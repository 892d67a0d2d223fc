// A copy of a template: for its own sheet, or for another one, whose columns take the place
// of its own. What it becomes is an unsaved letter that opens in the editor.
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, http, type Schemas, type Sheet, take, type Template, words } from "../../api/client";
import { draftOf, leaveDraft } from "../../parts/draft";
import { Blank } from "../../parts/picker";
import { nameable, valueType } from "../sheets/cell";

type Body = Schemas["TemplateBody"];
type Fitted = Schemas["Fitted"];

export function CopyTo({ sheet, template, mine }: { sheet: Sheet; template: Template; mine: Body }) {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [to, setTo] = useState(sheet.id);
  const [fitted, setFitted] = useState<Fitted>();
  const sheets = api.useQuery("get", "/sheets", {}, { enabled: open });
  const other = api.useQuery(
    "get",
    "/sheets/{sheet}",
    { params: { path: { sheet: to } } },
    { enabled: open && to !== sheet.id },
  );
  const name = (n: string) => `${n}, copy`;
  const go = (id: string, t: Body) => {
    setOpen(false);
    leaveDraft(draftOf.template(id), { ...t, name: name(t.name) });
    void navigate({
      to: "/templates/$sheet/$template",
      params: { sheet: id, template: "new" },
      search: { copy: true },
    });
  };
  const fit = async (columns?: Record<string, string>) => {
    try {
      const got = await take(
        http.POST("/sheets/{sheet}/templates/{template}/fit", {
          params: { path: { sheet: sheet.id, template: template.id } },
          body: { sheet: to, ...(columns ? { columns } : {}) },
        }),
      );
      if (columns || got.columns.every((c) => c.to !== "")) go(to, got.template);
      else setFitted(got);
    } catch (e) {
      toast.error(words(e));
    }
  };
  return (
    <Blank
      words="Copy …"
      title="A copy of this template"
      open={open}
      onOpenChange={(o) => {
        setOpen(o);
        setFitted(undefined);
      }}
    >
      <form
        className="flex max-w-96 flex-col gap-2.5"
        onSubmit={(e) => {
          e.preventDefault();
          if (to === sheet.id) go(to, { ...mine, written: undefined });
          else void fit(fitted ? Object.fromEntries(fitted.columns.map((c) => [c.id, c.to])) : undefined);
        }}
      >
        <label className="flex items-center justify-between gap-3">
          For the sheet
          <select
            className="field"
            value={to}
            onChange={(e) => {
              setTo(e.target.value);
              setFitted(undefined);
            }}
          >
            {(sheets.data ?? [sheet]).map((s) => (
              <option key={s.id} value={s.id}>
                {s.name}
              </option>
            ))}
          </select>
        </label>
        {fitted && other.data && (
          <fieldset className="flex flex-col gap-1.5">
            <legend className="mb-1 text-ink-2">
              Which column of {other.data.name} stands for which? It is remembered.
            </legend>
            {fitted.columns.map((c) => (
              <label key={c.id} className="flex items-center justify-between gap-3">
                {c.name}
                <select
                  className="field"
                  aria-label={c.name}
                  value={c.to}
                  onChange={(e) =>
                    setFitted({
                      ...fitted,
                      columns: fitted.columns.map((x) => (x.id === c.id ? { ...x, to: e.target.value } : x)),
                    })
                  }
                >
                  <option value="">none; it is marked</option>
                  {nameable(other.data).map((x) => (
                    <option key={x.id} value={x.id}>
                      {x.name}
                      {valueType(x) === c.type ? "" : ` (${valueType(x)})`}
                    </option>
                  ))}
                </select>
              </label>
            ))}
          </fieldset>
        )}
        <button type="submit" className="link self-start">
          {to !== sheet.id && !fitted ? "Go on" : "Open the copy"}
        </button>
      </form>
    </Blank>
  );
}
