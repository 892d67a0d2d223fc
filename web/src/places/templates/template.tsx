import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import type { Editor } from "@tiptap/react";
import { type ReactNode, useEffect, useState } from "react";
import { api, http, type Node, type Schemas, type Sheet, take, type Template, words } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { Overtaken, useOpened } from "../../parts/opened";
import { useMay } from "../../parts/session";
import { useSettled } from "../../parts/settled";
import { LetterFrame } from "../../parts/slip";
import { count } from "../../parts/time";
import { nameable } from "../sheets/cell";
import { Checks } from "./checks";
import { Fields } from "./field";
import { Leaf } from "./leaf";
import { BodyEditor, canEdit, SubjectEditor } from "./letter";
import { Tools } from "./tools";

const page = getRouteApi("/frame/templates/$sheet/$template");
const empty: Node = { type: "doc", content: [{ type: "paragraph" }] };

/** What is edited of a template. */
type Draft = { name: string; subject: Node; body: Node };
export type Body = Schemas["TemplateBody"];

export function TemplatePlace(): ReactNode {
  const p = page.useParams();
  const isNew = p.template === "new";
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: p.sheet } } });
  const template = api.useQuery("get", "/sheets/{sheet}/templates/{template}", { params: { path: p } }, { enabled: !isNew });
  const back = (
    <Link to="/templates" className="link">
      All templates
    </Link>
  );
  return (
    <Await query={sheet} back={back}>
      {(s) =>
        isNew ? (
          <TemplateEditor key="new" sheet={s} />
        ) : (
          <Await query={template} back={back}>
            {(t) => <TemplateEditor key={p.template} sheet={s} template={t} />}
          </Await>
        )
      }
    </Await>
  );
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
  };
}

// The names of the fields stand in the letter while Alt is held down.
function useNames(): boolean {
  const [names, setNames] = useState(false);
  useEffect(() => {
    const alt = (e: KeyboardEvent) => e.key === "Alt" && setNames(e.type === "keydown");
    window.addEventListener("keydown", alt);
    window.addEventListener("keyup", alt);
    return () => {
      window.removeEventListener("keydown", alt);
      window.removeEventListener("keyup", alt);
    };
  }, []);
  return names;
}

// The letter as a row would get it: the row by its place, or only those with a gap.
function usePreview(sheet: string, template: Body, index: number, onlyWarnings: boolean) {
  return useQuery({
    queryKey: [...keys.preview(sheet), template, index, onlyWarnings],
    placeholderData: (old: Schemas["Preview"] | undefined) => old,
    queryFn: () => take(http.POST("/sheets/{sheet}/preview", { params: { path: { sheet } }, body: { template, index, onlyWarnings } })),
  });
}

type Props = {
  sheet: Sheet;
  template?: Template;
  /** In a slip beside something else: how the letter was begun, and who waits for it. */
  beside?: { name: string; onSaved: (t: Template) => void };
};

/** The letter while it is written, with what it comes to. */
export function TemplateEditor({ sheet, template, beside }: Props) {
  // What this page cannot show whole it does not change.
  const whole = !template || (!template.variants?.length && canEdit(template.subject) && canEdit(template.body));
  const coordinator = useMay("coordinator");
  const may = coordinator && whole;
  const opened = useOpened<Template, Draft>(template, (t) => ({
    name: t?.name ?? beside?.name ?? "",
    subject: t?.subject ?? empty,
    body: t?.body ?? greeting(sheet),
  }));
  const { mine } = opened;
  const [index, setIndex] = useState(0);
  const [only, setOnly] = useState(false);
  const names = useNames();
  // A new template takes its language from where the sheet says it stands.
  const { language, variants } = template ?? { language: sheet.languageColumn || undefined, variants: undefined };
  const draft: Body = { ...mine, name: mine.name || "unnamed", language, variants };
  const settled = useSettled(JSON.stringify(draft), 200);
  const shown = JSON.parse(settled) as Body;
  const preview = usePreview(sheet.id, shown, index, only);
  const checks = useQuery({
    queryKey: [...keys.checks(sheet.id), shown],
    placeholderData: (old: Schemas["Checks"] | undefined) => old,
    queryFn: () => take(http.POST("/sheets/{sheet}/checks", { params: { path: { sheet: sheet.id } }, body: shown })),
  });
  const says = useQuery({
    queryKey: keys.letterEffect(template?.id ?? "", shown),
    enabled: opened.changed && template !== undefined,
    placeholderData: (old: Schemas["LetterConsequence"][] | undefined) => old,
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/templates/{template}/consequences", {
          params: { path: { sheet: sheet.id, template: template?.id ?? "" } },
          body: shown,
        }),
      ),
  });
  const pv = preview.data;
  const total = pv?.total ?? 0;
  const c = checks.data;
  const put = (more: Partial<Draft>) => opened.edit((d) => ({ ...d, ...more }));
  const toRow = async (row: string) => {
    const data = await take(
      http.POST("/sheets/{sheet}/preview", { params: { path: { sheet: sheet.id } }, body: { template: shown, row } }),
    ).catch(() => undefined);
    if (!data) return;
    setOnly(false);
    setIndex(data.index);
  };
  return (
    <Fields.Provider
      value={{
        columns: nameable(sheet),
        values: pv?.values ?? {},
        names,
        ready: !!pv && total > 0 && settled === JSON.stringify(draft) && !preview.isPlaceholderData,
      }}
    >
      <div className="flex min-h-0 flex-1 flex-col">
        <div className="flex items-baseline gap-6 px-5 pt-[18px] pb-3.5">
          <Title sheet={sheet} template={template} name={mine.name} checks={c} onName={may ? (name) => put({ name }) : undefined} />
          <Acts
            sheet={sheet}
            template={template}
            opened={opened}
            may={may}
            trouble={preview.error ? words(preview.error) : ""}
            onSaved={beside?.onSaved}
          />
        </div>
        {opened.newer && pv && <Both sheet={sheet} opened={opened} mine={pv} />}
        <div className="flex min-h-0 flex-1 border-t border-hair">
          <div className="flex min-w-0 flex-1 flex-col border-r border-hair px-5 pt-4 pr-7">
            {whole ? (
              // What is taken over from somebody else begins anew.
              <Paper key={opened.times} sheet={sheet} draft={mine} may={may} put={put} />
            ) : (
              <FromBundle template={template} html={total > 0 ? pv?.html : undefined} />
            )}
            <Leaf
              sheet={sheet.id}
              template={shown}
              preview={pv}
              index={index}
              only={only}
              warned={c ? c.rows - c.good : 0}
              onIndex={setIndex}
              onOnly={(on) => {
                setOnly(on);
                setIndex(0);
              }}
              onRow={toRow}
            />
          </div>
          {!beside && <Checks checks={c} says={opened.changed ? says.data : undefined} preview={pv} plain={!whole} onRow={toRow} />}
        </div>
      </div>
    </Fields.Provider>
  );
}

function Title(p: { sheet: Sheet; template?: Template; name: string; checks?: Schemas["Checks"]; onName?: (n: string) => void }) {
  const { sheet, template, name, checks: c } = p;
  return (
    <h1>
      {p.onName ? (
        <input
          aria-label="Name of the template"
          className="min-w-16 border-b border-dotted border-juniper bg-transparent font-semibold outline-offset-4 [field-sizing:content]"
          placeholder="Name the template"
          value={name}
          onChange={(e) => p.onName?.(e.target.value)}
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
          <>No rule uses it yet; </>
        ))}
      {template && p.onName && (
        <>
          <Link
            to="/sheets/$sheet/rules/$rule"
            params={{ sheet: sheet.id, rule: "new" }}
            search={{ template: template.id }}
            className="figure"
          >
            use it in a new rule
          </Link>
          ;{" "}
        </>
      )}
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
  );
}

type Opened = ReturnType<typeof useOpened<Template, Draft>>;

function Acts({
  sheet,
  template,
  opened,
  may,
  trouble,
  onSaved,
}: {
  sheet: Sheet;
  template?: Template;
  opened: Opened;
  may: boolean;
  trouble: string;
  onSaved?: (t: Template) => void;
}) {
  const navigate = useNavigate();
  const path = { sheet: sheet.id, template: template?.id ?? "" };
  const changes = [keys.templates, keys.template, keys.rules, keys.rule];
  const save = useWrite<Draft, Template>({
    write: (mine) =>
      template
        ? http.PUT("/sheets/{sheet}/templates/{template}", {
            params: { path },
            body: { template: mine, version: opened.version },
          })
        : http.POST("/sheets/{sheet}/templates", { params: { path: { sheet: sheet.id } }, body: { template: mine } }),
    changes,
    saved: "Saved.",
    after: (t, sent) => {
      opened.saved(t, sent);
      if (onSaved) onSaved(t);
      else if (!template) void navigate({ to: "/templates/$sheet/$template", params: { sheet: sheet.id, template: t.id }, replace: true });
    },
    quiet: true,
  });
  const [sure, setSure] = useState(false);
  const used = template?.usedBy.length ?? 0;
  const remove = useWrite({
    write: () => http.DELETE("/sheets/{sheet}/templates/{template}", { params: { path, query: { pausing: used > 0 } } }),
    changes,
    after: () => void navigate({ to: "/templates" }),
    quiet: true,
  });
  const failed = [save, remove].map((w) => w.failed).find((f) => f && f.newer === undefined);
  return (
    <span className="ml-auto flex flex-none items-center gap-4">
      <span role="alert" className="text-brick">
        {failed?.title ?? trouble}
      </span>
      {may && template && !onSaved && (
        <button
          type="button"
          className="link text-brick!"
          disabled={remove.busy}
          onBlur={() => setSure(false)}
          onClick={() => (used > 0 && !sure ? setSure(true) : void remove.do())}
        >
          {used === 0 ? "Take it away" : sure ? `Yes, and pause ${count(used, "rule")} that need it` : "Take it away …"}
        </button>
      )}
      {may && (
        <button
          type="button"
          className="act"
          disabled={save.busy || !opened.changed || !opened.mine.name.trim() || opened.newer !== undefined}
          onClick={() => void save.do(opened.mine)}
        >
          Save
        </button>
      )}
    </span>
  );
}

const bodyOf = ({ name, subject, body, language, variants }: Template): Body => ({ name, subject, body, language, variants });

// Somebody else's letter beside one's own, for the same row.
function Both({ sheet, opened, mine }: { sheet: Sheet; opened: Opened; mine: Schemas["Preview"] }) {
  const { newer } = opened;
  const theirs = useQuery({
    queryKey: [...keys.preview(sheet.id), "newer", newer?.version, mine.rowId],
    enabled: newer !== undefined,
    queryFn: () =>
      take(
        http.POST("/sheets/{sheet}/preview", {
          params: { path: { sheet: sheet.id } },
          body: { template: bodyOf(newer as Template), row: mine.rowId || undefined },
        }),
      ),
  });
  return (
    <div className="max-h-[60%] flex-none overflow-auto px-5">
      <Overtaken
        what="template"
        theirs={<Side name={newer?.name ?? ""} of={theirs.data} other={mine} />}
        mine={<Side name={opened.mine.name} of={mine} other={theirs.data} />}
        onTheirs={opened.takeTheirs}
        onMine={opened.keepMine}
      />
    </div>
  );
}

// One of two letters as plain text: what the other does not have stands out.
function Side({ name, of, other }: { name: string; of?: Schemas["Preview"]; other?: Schemas["Preview"] }) {
  if (!of || !other) return null;
  const paragraphs = (p: Schemas["Preview"]) => p.text.split(/\n\s*\n/);
  const theirs = new Set(paragraphs(other));
  return (
    <div className="max-h-52 overflow-auto border border-hair-2 bg-sheet px-3 py-2">
      <p className="text-ink-2">{name}</p>
      <p className={of.subject === other.subject ? "text-ink-2" : "bg-wash font-semibold"}>{of.subject}</p>
      {paragraphs(of).map((x, i) => (
        <p
          key={i}
          className={`mt-1.5 font-letter whitespace-pre-line ${theirs.has(x) ? "line-clamp-1 text-ink-2" : "bg-wash font-semibold"}`}
        >
          {x}
        </p>
      ))}
    </div>
  );
}

// The letter while it is written.
function Paper({ sheet, draft, may, put }: { sheet: Sheet; draft: Draft; may: boolean; put: (more: Partial<Draft>) => void }) {
  const [editor, setEditor] = useState<Editor | null>(null);
  const [target, setTarget] = useState<Editor | null>(null);
  return (
    <>
      {editor && may && <Tools body={editor} target={target ?? editor} columns={nameable(sheet)} />}
      <div className="min-h-0 flex-1 overflow-auto border border-hair-2 bg-sheet px-13 py-6.5 max-lg:px-6">
        <SubjectEditor
          content={draft.subject}
          columns={nameable(sheet)}
          editable={may}
          onChange={(subject) => put({ subject })}
          onFocus={setTarget}
        />
        <div onFocus={() => setTarget(editor)}>
          <BodyEditor
            content={draft.body}
            columns={nameable(sheet)}
            editable={may}
            onChange={(body) => put({ body })}
            onReady={setEditor}
          />
        </div>
      </div>
    </>
  );
}

function FromBundle({ template, html }: { template?: Template; html?: string }) {
  return (
    <>
      <p className="mb-3 text-ink-2">
        This letter came with a bundle and has{" "}
        {template?.variants?.length ? `a text in ${count(template.variants.length, "other language")}` : "parts that are set in the bundle"}
        , so it is changed there. It is shown as a row gets it.
      </p>
      <div className="min-h-0 flex-1 overflow-auto">
        {html !== undefined && <LetterFrame html={html} title="The letter" height={520} />}
      </div>
    </>
  );
}
