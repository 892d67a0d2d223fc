import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useBlocker, useNavigate } from "@tanstack/react-router";
import type { Editor } from "@tiptap/react";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { api, http, type Node, type Schemas, type Sheet, take, type Template, words } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { Overtaken, useOpened } from "../../parts/opened";
import { useMay } from "../../parts/session";
import { useSettled } from "../../parts/settled";
import { useKey } from "../../parts/shortcuts";
import { count } from "../../parts/time";
import { nameable } from "../sheets/cell";
import { Arrives, type Way, Ways } from "./arrives";
import { Attachments } from "./attachments";
import { Checks } from "./checks";
import { useDraft } from "./drafts";
import { Fields } from "./field";
import { Languages } from "./languages";
import { Leaf } from "./leaf";
import { BodyEditor, LineEditor } from "./letter";
import { Tools } from "./tools";

const page = getRouteApi("/frame/templates/$sheet/$template");
const empty: Node = { type: "doc", content: [{ type: "paragraph" }] };

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
function usePreview(sheet: string, template: Body, index: number, onlyWarnings: boolean, variant: number | undefined) {
  const body = { template, index, onlyWarnings, variant };
  return useQuery({
    queryKey: [...keys.preview(sheet), body],
    placeholderData: (old: Schemas["Preview"] | undefined) => old,
    queryFn: () => take(http.POST("/sheets/{sheet}/preview", { params: { path: { sheet } }, body })),
  });
}

type Props = {
  sheet: Sheet;
  template?: Template;
  /** In a slip beside something else: how the letter was begun, and who waits for it. */
  beside?: { name: string; onSaved: (t: Template) => void };
};

type Words = { subject: Node; preheader?: Node; body: Node };
/** The text of a template in one of its languages, 0 being the first. */
const textOf = (t: Body, n: number): Words => (n > 0 ? t.variants?.[n - 1] : undefined) ?? t;

function withText(t: Body, n: number, x: Partial<Words>): Body {
  if (n === 0) return { ...t, ...x };
  return { ...t, variants: t.variants?.map((v, i) => (i === n - 1 ? { ...v, ...x } : v)) };
}

/** The letter while it is written, with what it comes to. */
export function TemplateEditor({ sheet, template, beside }: Props) {
  const may = useMay("coordinator");
  const opened = useOpened<Template, Body>(template, (t) =>
    t
      ? t.content
      : // A new template takes its language from where the sheet says it stands.
        { name: beside?.name ?? "", subject: empty, body: greeting(sheet), language: sheet.languageColumn || undefined },
  );
  const { mine } = opened;
  const [index, setIndex] = useState(0);
  const [only, setOnly] = useState(false);
  const [language, setLanguage] = useState(0);
  const [begun, setBegun] = useState(0); // counts the times the paper was begun anew
  const names = useNames();
  const draft: Body = { ...mine, name: mine.name || "unnamed" };
  const settled = useSettled(JSON.stringify(draft), 200);
  const shown = JSON.parse(settled) as Body;
  const variant = (shown.variants ?? []).length > 0 ? Math.min(language, shown.variants?.length ?? 0) : undefined;
  const preview = usePreview(sheet.id, shown, index, only, variant);
  const [way, setWay] = useState<Way>("write");
  const pieces = api.useQuery("get", "/pieces");
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
  const begin = `${sheet.id}-${template?.id ?? "new"}`;
  const kept = useDraft(begin, mine, opened.changed && mine !== undefined, opened.version ?? 0);
  const pv = preview.data;
  const total = pv?.total ?? 0;
  const c = checks.data;
  const put = (more: Partial<Body>) => opened.edit((d) => ({ ...d, ...more }));
  const toRow = async (row: string) => {
    const data = await take(
      http.POST("/sheets/{sheet}/preview", { params: { path: { sheet: sheet.id } }, body: { template: shown, row } }),
    ).catch(() => undefined);
    if (!data) return;
    setOnly(false);
    setIndex(data.index);
  };
  const text = textOf(mine, language);
  return (
    <Fields.Provider
      value={{
        columns: nameable(sheet),
        values: pv?.values ?? {},
        parts: pv?.parts ?? {},
        pieces: pieces.data ?? [],
        language: (language > 0 && mine.variants?.[language - 1]?.language) || mine.firstLanguage || sheet.locale,
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
            onKept={kept.drop}
          />
        </div>
        {kept.left && may && (
          <Left
            at={kept.left.at}
            onTake={() => {
              opened.edit(() => kept.left?.draft ?? mine);
              setBegun((n) => n + 1);
              kept.taken();
            }}
            onDrop={kept.drop}
          />
        )}
        {opened.newer && pv && <Both sheet={sheet} opened={opened} mine={pv} />}
        <div className="flex min-h-0 flex-1 border-t border-hair">
          <div className="flex min-w-0 flex-1 flex-col border-r border-hair px-5 pt-3 pr-7">
            <div className="flex flex-wrap items-baseline gap-x-6">
              <Languages
                sheet={sheet}
                template={mine}
                older={template?.older ?? []}
                now={language}
                may={may}
                onPick={setLanguage}
                onChange={put}
              />
              <Ways way={way} onWay={setWay} />
            </div>
            {/* What is taken over from somebody else begins anew, and so does another language. */}
            <div className={way === "write" ? "contents" : "hidden"}>
              <Paper
                key={`${opened.times}-${begun}-${language}`}
                sheet={sheet}
                text={text}
                may={may}
                put={(x) => opened.edit((d) => withText(d, language, x))}
              />
            </div>
            {way !== "write" && <Arrives sheet={sheet.id} template={shown} variant={variant} preview={pv} way={way} />}
            <Attachments
              list={mine.attachments ?? []}
              columns={nameable(sheet)}
              may={may}
              onChange={(attachments) => put({ attachments: attachments.length > 0 ? attachments : undefined })}
            />
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
          {!beside && <Checks checks={c} says={opened.changed ? says.data : undefined} preview={pv} onRow={toRow} />}
        </div>
      </div>
    </Fields.Provider>
  );
}

// What was written on an earlier visit and not saved.
function Left({ at, onTake, onDrop }: { at: string; onTake: () => void; onDrop: () => void }) {
  return (
    <p role="status" className="mx-5 mb-2 flex flex-wrap items-baseline gap-x-4 border-y border-hair py-2">
      <span>
        You wrote on this letter on {new Date(at).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })} and did not save it.{" "}
        <b>What you wrote is still here.</b>
      </span>
      <button type="button" className="act" onClick={onTake}>
        Go on with it
      </button>
      <button type="button" className="link" onClick={onDrop}>
        Discard it
      </button>
    </p>
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

type Opened = ReturnType<typeof useOpened<Template, Body>>;

function Acts({
  sheet,
  template,
  opened,
  may,
  trouble,
  onSaved,
  onKept,
}: {
  sheet: Sheet;
  template?: Template;
  opened: Opened;
  may: boolean;
  trouble: string;
  onSaved?: (t: Template) => void;
  onKept: () => void;
}) {
  const navigate = useNavigate();
  const path = { sheet: sheet.id, template: template?.id ?? "" };
  const saving = useRef(false); // what is shown next is of our own doing
  const leaving = useBlocker({
    shouldBlockFn: ({ current, next }) => opened.changed && may && !saving.current && current.pathname !== next.pathname,
    enableBeforeUnload: () => opened.changed && may,
    withResolver: true,
  });
  const changes = [keys.templates, keys.template, keys.rules, keys.rule];
  const save = useWrite<Body, Template>({
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
      onKept();
      saving.current = true;
      if (onSaved) onSaved(t);
      else if (!template) void navigate({ to: "/templates/$sheet/$template", params: { sheet: sheet.id, template: t.id }, replace: true });
      saving.current = false;
    },
    quiet: true,
  });
  const [sure, setSure] = useState(false);
  const used = template?.usedBy.length ?? 0;
  const remove = useWrite({
    write: () => http.DELETE("/sheets/{sheet}/templates/{template}", { params: { path, query: { pausing: used > 0 } } }),
    changes,
    after: () => {
      saving.current = true;
      void navigate({ to: "/templates" });
    },
    quiet: true,
  });
  const ready = may && !save.busy && opened.changed && opened.mine.name.trim() !== "" && opened.newer === undefined;
  useKey("ctrl+s", () => ready && void save.do(opened.mine), may);
  const failed = [save, remove].map((w) => w.failed).find((f) => f && f.newer === undefined);
  return (
    <span className="ml-auto flex flex-none items-center gap-4">
      {leaving.status === "blocked" && (
        <span role="alertdialog" aria-label="Not saved" className="flex items-baseline gap-3">
          <span>This letter is not saved.</span>
          <button type="button" className="link" onClick={leaving.proceed}>
            Leave; keep what I wrote in this browser
          </button>
          {/* eslint-disable-next-line jsx-a11y/no-autofocus -- it answers what was just pressed */}
          <button type="button" className="act" autoFocus onClick={leaving.reset}>
            Stay
          </button>
        </span>
      )}
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
        <button type="button" className="act" disabled={!ready} onClick={() => void save.do(opened.mine)}>
          Save
          <kbd className="key" aria-hidden>
            Ctrl S
          </kbd>
        </button>
      )}
    </span>
  );
}

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
          body: { template: (newer as Template).content, row: mine.rowId || undefined },
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
function Paper({ sheet, text, may, put }: { sheet: Sheet; text: Words; may: boolean; put: (more: Partial<Words>) => void }) {
  const [editor, setEditor] = useState<Editor | null>(null);
  const [target, setTarget] = useState<Editor | null>(null);
  const columns = nameable(sheet);
  return (
    <>
      {editor && may && <Tools body={editor} target={target ?? editor} columns={columns} />}
      {/* A click beside the words is meant for them. */}
      {/* eslint-disable-next-line jsx-a11y/no-static-element-interactions, jsx-a11y/click-events-have-key-events */}
      <div
        className="min-h-0 flex-1 cursor-text overflow-auto border border-hair-2 bg-sheet px-8 pt-2 pb-6.5 max-lg:px-6"
        onClick={(e) => e.target === e.currentTarget && editor?.commands.focus("end")}
      >
        <LineEditor
          label="Subject"
          hint="What it is about"
          content={text.subject}
          columns={columns}
          editable={may}
          className="text-[19px] leading-[27px] font-semibold"
          onChange={(subject) => put({ subject })}
          onFocus={setTarget}
        />
        <LineEditor
          label="Preview text"
          hint="What a mailbox shows behind the subject; the letter’s first words where there is none"
          content={text.preheader ?? empty}
          columns={columns}
          editable={may}
          className="text-[15px] leading-[23px]"
          onChange={(n) => put({ preheader: (n.content?.[0]?.content ?? []).length > 0 ? n : undefined })}
          onFocus={setTarget}
        />
        <div className="mt-4" onFocus={() => setTarget(editor)}>
          <BodyEditor content={text.body} columns={columns} editable={may} onChange={(body) => put({ body })} onReady={setEditor} />
        </div>
      </div>
    </>
  );
}
