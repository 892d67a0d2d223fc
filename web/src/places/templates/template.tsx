import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import type { Editor } from "@tiptap/react";
import { useCallback, useEffect, useMemo, useState } from "react";
import { toast } from "sonner";
import { api, http, type Node, type Schemas, type Sheet, type Template, words } from "../../api/client";
import { useMay } from "../../parts/session";
import { useKey } from "../../parts/shortcuts";
import { LetterFrame } from "../../parts/slip";
import { count } from "../../parts/time";
import { Fields } from "./field";
import { BodyEditor, canEdit, SubjectEditor, Tools } from "./letter";

const empty: Node = { type: "doc", content: [{ type: "paragraph" }] };

export function TemplatePlace() {
  const p = useParams({ strict: false }) as { sheet: string; template: string };
  const isNew = p.template === "new";
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: p.sheet } } });
  const template = api.useQuery("get", "/sheets/{sheet}/templates/{template}", { params: { path: p } }, { enabled: !isNew });
  if (template.error)
    return (
      <p className="p-8">
        {words(template.error)}{" "}
        <Link to="/templates" className="link">
          All templates
        </Link>
      </p>
    );
  if (!sheet.data || (!isNew && !template.data)) return null;
  return <TemplateEditor key={p.template} sheet={sheet.data} template={template.data} />;
}

// How a new letter begins: with the name of whom it concerns, where the sheet
// says which column that is.
function greeting(sheet: Sheet): Node {
  if (!sheet.nameColumn) return empty;
  const field = { type: "field", attrs: { column: sheet.nameColumn, part: "first word", fallback: "colleague" } };
  const text = (t: string) => ({ type: "text", text: t });
  return {
    type: "doc",
    content: [
      { type: "paragraph", content: [text("Dear "), field, text(",")] },
      { type: "paragraph", content: [] },
    ],
  } as Node;
}

function TemplateEditor({ sheet, template }: { sheet: Sheet; template?: Template }) {
  // What this page cannot show whole it does not change.
  const whole = !template || (!template.variants?.length && canEdit(template.subject) && canEdit(template.body));
  const [name, setName] = useState(template?.name ?? "");
  const [subject, setSubject] = useState<Node>(template?.subject ?? empty);
  const [body, setBody] = useState<Node>(template?.body ?? greeting(sheet));
  const [index, setIndex] = useState(0);
  const [only, setOnly] = useState(false);
  const [find, setFind] = useState("");
  const [names, setNames] = useState(false);
  const [twin, setTwin] = useState<"letter" | "text">(whole ? "letter" : "text");
  const [error, setError] = useState("");
  const [editor, setEditor] = useState<Editor | null>(null);
  const [target, setTarget] = useState<Editor | null>(null);
  const coordinator = useMay("coordinator");
  const may = coordinator && whole;
  const mayTest = useMay("editor");
  const client = useQueryClient();
  const navigate = useNavigate();
  // A new template takes its language from where the sheet says it stands.
  const { language, variants } = template ?? { language: sheet.languageColumn || undefined, variants: undefined };
  const draft = useMemo(() => ({ name: name || "unnamed", subject, body, language, variants }), [name, subject, body, language, variants]);
  const [settled, setSettled] = useState(draft);
  useEffect(() => {
    const t = window.setTimeout(() => setSettled(draft), 200);
    return () => window.clearTimeout(t);
  }, [draft]);
  useEffect(() => {
    const alt = (e: KeyboardEvent) => e.key === "Alt" && setNames(e.type === "keydown");
    window.addEventListener("keydown", alt);
    window.addEventListener("keyup", alt);
    return () => {
      window.removeEventListener("keydown", alt);
      window.removeEventListener("keyup", alt);
    };
  }, []);
  const preview = useQuery({
    queryKey: ["preview", sheet.id, settled, index, only],
    placeholderData: (old: Schemas["Preview"] | undefined) => old,
    queryFn: async () => {
      const { data, error } = await http.POST("/sheets/{sheet}/preview", {
        params: { path: { sheet: sheet.id } },
        body: { template: settled, index, onlyWarnings: only },
      });
      if (error) throw error;
      return data;
    },
  });
  const checks = useQuery({
    queryKey: ["checks", sheet.id, settled],
    placeholderData: (old: Schemas["Checks"] | undefined) => old,
    queryFn: async () => {
      const { data, error } = await http.POST("/sheets/{sheet}/checks", { params: { path: { sheet: sheet.id } }, body: settled });
      if (error) throw error;
      return data;
    },
  });
  const pv = preview.data;
  const total = pv?.total ?? 0;
  const leaf = useCallback((by: number) => setIndex((i) => Math.max(0, Math.min(total - 1, i + by))), [total]);
  useKey(
    ",",
    useCallback(() => leaf(-1), [leaf]),
  );
  useKey(
    ".",
    useCallback(() => leaf(1), [leaf]),
  );
  const toRow = async (row: string) => {
    const { data } = await http.POST("/sheets/{sheet}/preview", {
      params: { path: { sheet: sheet.id } },
      body: { template: settled, row },
    });
    if (data) {
      setOnly(false);
      setIndex(data.index);
    }
  };
  const findRow = async (text: string) => {
    const { data } = await http.POST("/sheets/{sheet}/rows/query", {
      params: { path: { sheet: sheet.id } },
      body: { find: text, offset: 0, limit: 1 },
    });
    const r = data?.rows[0];
    if (r) await toRow(r.id);
    else toast.error(`No row holds “${text}”.`);
  };
  const changed =
    JSON.stringify({ name, subject, body }) !==
    JSON.stringify({ name: template?.name ?? "", subject: template?.subject ?? empty, body: template?.body ?? empty });
  const save = async () => {
    setError("");
    const { data, error } = template
      ? await http.PUT("/sheets/{sheet}/templates/{template}", {
          params: { path: { sheet: sheet.id, template: template.id } },
          body: { template: { name, subject, body }, version: template.version },
        })
      : await http.POST("/sheets/{sheet}/templates", {
          params: { path: { sheet: sheet.id } },
          body: { template: { name, subject, body } },
        });
    if (error) return setError(words(error));
    await client.invalidateQueries();
    toast.success("Saved.");
    if (!template && data)
      void navigate({ to: "/templates/$sheet/$template", params: { sheet: sheet.id, template: data.id }, replace: true });
  };
  const test = async () => {
    if (!pv?.rowId) return;
    const { data, error } = await http.POST("/sheets/{sheet}/test-email", {
      params: { path: { sheet: sheet.id } },
      body: { template: draft, row: pv.rowId },
    });
    if (error) toast.error(words(error));
    else toast.success(`Sent to you alone, ${data.to}: “${data.subject}”.`);
  };
  const remove = async () => {
    if (!template) return;
    const { error } = await http.DELETE("/sheets/{sheet}/templates/{template}", {
      params: { path: { sheet: sheet.id, template: template.id } },
    });
    if (error) return setError(words(error));
    await client.invalidateQueries();
    void navigate({ to: "/templates" });
  };
  const c = checks.data;
  const warned = c ? c.rows - c.good : 0;
  return (
    <Fields.Provider
      value={{
        columns: sheet.columns,
        values: pv?.values ?? {},
        names,
        ready: !!pv && total > 0 && settled === draft && !preview.isPlaceholderData,
      }}
    >
      <div className="flex min-h-0 flex-1 flex-col">
        <div className="flex items-baseline gap-6 px-5 pt-[18px] pb-3.5">
          <h1>
            {may ? (
              <input
                aria-label="Name of the template"
                className="min-w-16 border-b border-dotted border-juniper bg-transparent font-semibold outline-offset-4 [field-sizing:content]"
                placeholder="Name the template"
                value={name}
                onChange={(e) => setName(e.target.value)}
              />
            ) : (
              <b>{name}</b>
            )}
            , for{" "}
            <Link to="/sheets/$sheet" params={{ sheet: sheet.id }} className="figure">
              {sheet.name}
            </Link>
            .{" "}
            {template &&
              (template.usedBy.length > 0 ? (
                <>
                  Used by{" "}
                  {template.usedBy.map((u, i) => (
                    <span key={u.rule}>
                      {i > 0 && ", "}
                      <Link to="/sheets/$sheet/rules/$rule" params={{ sheet: sheet.id, rule: u.rule }} className="figure">
                        rule {u.letter}
                      </Link>
                    </span>
                  ))}
                  ;{" "}
                </>
              ) : (
                "No rule uses it yet; "
              ))}
            {c && c.rows > 0 && (
              <>
                {template ? "reads" : "Reads"} well for{" "}
                <span className="figure">
                  {c.good.toLocaleString("en-GB")} of {count(c.rows, "row")}
                </span>
                .
              </>
            )}
          </h1>
          <span className="ml-auto flex flex-none items-center gap-4">
            <span role="alert" className="text-brick">
              {error || (preview.error ? words(preview.error) : "")}
            </span>
            {may && template && template.usedBy.length === 0 && (
              <button type="button" className="link text-brick!" onClick={remove}>
                Take it away
              </button>
            )}
            {may && (
              <button type="button" className="act" disabled={!changed || !name.trim()} onClick={save}>
                Save
              </button>
            )}
          </span>
        </div>
        <div className="flex min-h-0 flex-1 border-t border-hair">
          <div className="flex min-w-0 flex-1 flex-col border-r border-hair px-5 pt-4 pr-7">
            {!whole && (
              <p className="mb-3 text-ink-2">
                This letter came with a bundle and has{" "}
                {template?.variants?.length
                  ? `a text in ${count(template.variants.length, "other language")}`
                  : "parts that are set in the bundle"}
                , so it is changed there. It is shown as a row gets it.
              </p>
            )}
            {editor && may && <Tools body={editor} target={target ?? editor} columns={sheet.columns} />}
            {whole ? (
              <div className="min-h-0 flex-1 overflow-auto border border-hair-2 bg-sheet px-13 py-6.5 max-lg:px-6">
                <SubjectEditor content={subject} columns={sheet.columns} editable={may} onChange={setSubject} onFocus={setTarget} />
                <div onFocus={() => setTarget(editor)}>
                  <BodyEditor content={body} columns={sheet.columns} editable={may} onChange={setBody} onReady={setEditor} />
                </div>
              </div>
            ) : (
              <div className="min-h-0 flex-1 overflow-auto">
                {pv && total > 0 && <LetterFrame html={pv.html} title="The letter" height={520} />}
              </div>
            )}
            <div className="flex h-[46px] flex-none items-center gap-4 text-ink-2">
              <button type="button" className="link" disabled={index === 0} onClick={() => leaf(-1)}>
                previous<kbd className="key">,</kbd>
              </button>
              <button type="button" className="link" disabled={index >= total - 1} onClick={() => leaf(1)}>
                next<kbd className="key">.</kbd>
              </button>
              {pv && total > 0 ? (
                <span className="whitespace-nowrap">
                  Row{" "}
                  <b className="text-ink" data-testid="previewed">
                    {pv.row}
                  </b>
                  , {pv.index + 1} of {total.toLocaleString("en-GB")}
                </span>
              ) : (
                <span>{only ? "No row has a warning." : "The sheet has no rows."}</span>
              )}
              <form
                onSubmit={(e) => {
                  e.preventDefault();
                  if (find.trim()) void findRow(find.trim());
                }}
              >
                <input
                  className="field w-32"
                  placeholder="find a row"
                  aria-label="Find a row"
                  value={find}
                  onChange={(e) => setFind(e.target.value)}
                />
              </form>
              {(warned > 0 || only) && (
                <button
                  type="button"
                  className="blank whitespace-nowrap"
                  aria-pressed={only}
                  onClick={() => {
                    setOnly(!only);
                    setIndex(0);
                  }}
                >
                  {only ? "all rows" : "only rows with a gap"}
                </button>
              )}
              {mayTest && (
                <button type="button" className="link ml-auto" disabled={!pv?.rowId} onClick={test}>
                  Send me this one
                </button>
              )}
            </div>
          </div>
          <div
            className="w-[384px] flex-none overflow-auto px-5.5 pt-5 pb-6 max-lg:w-[300px]"
            tabIndex={0}
            role="region"
            aria-label="Checks and preview"
          >
            <h2>Checks {c && <small className="ml-1 text-xs font-[450] text-ink-2">over {count(c.rows, "row")}</small>}</h2>
            <ul className="mt-1.5 mb-4">
              {c?.checks.map((k) => (
                <li key={k.text} className="border-t border-hair-2 py-1.5">
                  <div className="flex gap-2.5">
                    <span
                      className={`mt-[7px] size-[7px] flex-none ${k.level === "stop" ? "bg-brick" : k.level === "warn" ? "bg-marigold-fill" : "bg-juniper"}`}
                    />
                    <span>{k.text}</span>
                    {k.rows > 0 && <b className="ml-auto font-semibold whitespace-nowrap">{count(k.rows, "row")}</b>}
                  </div>
                  {k.examples.length > 0 && (
                    <div className="pl-[17px] text-ink-2">
                      {k.examples.map((x) => (
                        <button key={x.id} type="button" className="link mr-2.5 font-normal!" onClick={() => toRow(x.id)}>
                          {x.name}
                        </button>
                      ))}
                      {k.rows > k.examples.length && "…"}
                    </div>
                  )}
                </li>
              ))}
            </ul>
            <h2 className="flex items-baseline gap-3">
              As it arrives
              <button
                type="button"
                className="link"
                aria-pressed={twin === "letter"}
                onClick={() => setTwin(twin === "letter" ? "text" : "letter")}
              >
                {twin === "letter" ? "as plain text" : "as a letter"}
              </button>
            </h2>
            {pv && total > 0 && (
              <div className="mt-1.5">
                <p className="border border-b-0 border-hair-2 bg-sheet px-3 py-2 font-semibold" data-testid="subject">
                  {pv.subject || <span className="bad">no subject</span>}
                </p>
                {twin === "letter" ? (
                  <LetterFrame html={pv.html} title={`Letter for ${pv.row}`} height={320} />
                ) : (
                  <pre tabIndex={0} className="max-h-80 overflow-auto border border-hair-2 bg-sheet p-3 font-sans whitespace-pre-wrap">
                    {pv.text}
                  </pre>
                )}
                {pv.missing.length > 0 && (
                  <p className="mt-1.5 text-brick">
                    For this row the email could not go: {pv.missing.join(" and ")} {pv.missing.length === 1 ? "has" : "have"} no value.
                  </p>
                )}
              </div>
            )}
          </div>
        </div>
      </div>
    </Fields.Provider>
  );
}
