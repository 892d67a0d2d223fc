import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import type { Editor } from "@tiptap/react";
import { type ReactNode, useEffect, useState } from "react";
import {
  api,
  http,
  type Node,
  type Problem,
  problemOf,
  type Schemas,
  type Sheet,
  take,
  type Template,
} from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { draftOf, Leaving, LeftBehind, leftDraft, useDraft, useLeaving } from "../../parts/draft";
import { useNarrow } from "../../parts/narrow";
import { freeName, longestName, LookOnly, NameLimit } from "../../parts/name";
import { Overtaken, useOpened } from "../../parts/opened";
import { Blank } from "../../parts/picker";
import { useMay } from "../../parts/session";
import { Slip } from "../../parts/slip";
import { useSettled } from "../../parts/settled";
import { useKey } from "../../parts/shortcuts";
import { count } from "../../parts/time";
import { WriteState } from "../../parts/writestate";
import { nameable } from "../sheets/cell";
import { Here } from "../sheets/looking";
import { unsaved, usePresence } from "../sheets/presence";
import { Arrives, type Way, Ways } from "./arrives";
import { Attachments } from "./attachments";
import { Checks } from "./checks";
import { CopyTo } from "./copy";
import { Differing } from "./differing";
import { Fields } from "./field";
import { Languages } from "./languages";
import { Leaf, type Only } from "./leaf";
import { BodyEditor, LineEditor } from "./letter";
import { lineOf, lineWords } from "./line";
import { Source } from "./source";
import { Tools } from "./tools";
import { Versions } from "./versions";

const page = getRouteApi("/frame/templates/$sheet/$template");
const empty: Node = { type: "doc", content: [{ type: "paragraph" }] };

export type Body = Schemas["TemplateBody"];

export function TemplatePlace(): ReactNode {
  const p = page.useParams();
  const isNew = p.template === "new";
  const sheet = api.useQuery("get", "/sheets/{sheet}", { params: { path: { sheet: p.sheet } } });
  const template = api.useQuery(
    "get",
    "/sheets/{sheet}/templates/{template}",
    { params: { path: p } },
    { enabled: !isNew },
  );
  const back = (
    <Link to="/templates" className="link">
      All templates
    </Link>
  );
  return (
    <Await query={sheet} back={back}>
      {(s) =>
        isNew ? (
          <TemplateEditor key="new" sheet={s} copied={page.useSearch().copy} />
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
// says which column that is, and above its sender's signature, where there is one.
function greeting(sheet: Sheet): Node {
  const sign = sheet.signed ? [{ type: "signature" }] : [];
  if (!sheet.nameColumn) return { type: "doc", content: [{ type: "paragraph" }, ...sign] };
  const field = { type: "field", attrs: { column: sheet.nameColumn, part: "first word", fallback: "colleague" } };
  const text = (t: string) => ({ type: "text", text: t });
  return {
    type: "doc",
    content: [
      { type: "paragraph", content: [text("Dear "), field, text(",")] },
      { type: "paragraph", content: [] },
      ...sign,
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
function usePreview(sheet: string, template: Body, index: number, only: Only, variant: number | undefined) {
  const body = { template, index, only, variant, pointing: true };
  return useQuery<Schemas["Preview"]>({
    queryKey: [...keys.preview(sheet), body],
    placeholderData: (old) => old,
    queryFn: ({ signal }) => take(http.POST("/sheets/{sheet}/preview", { params: { path: { sheet } }, body, signal })),
  });
}

// What the letter comes to over all rows: first over a part of them, where they are many.
function useChecks(sheet: string, template: Body) {
  const ask = (quick: boolean) => ({
    queryKey: [...keys.checks(sheet), template, quick],
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      take(
        http.POST("/sheets/{sheet}/checks", { params: { path: { sheet }, query: { quick } }, body: template, signal }),
      ),
  });
  const soon = useQuery({ ...ask(true), placeholderData: (old: Schemas["Checks"] | undefined) => old });
  const part = soon.data?.partial === true && !soon.isPlaceholderData;
  const whole = useQuery({ ...ask(false), enabled: part });
  return part ? (whole.data ?? soon.data) : soon.data;
}

type Props = {
  sheet: Sheet;
  template?: Template;
  /** In a slip beside something else: how the letter was begun, and who waits for it. */
  beside?: { name: string; onSaved: (t: Template) => void };
  copied?: boolean; // begun as a copy of another one
};

// A line of the template in words, to call it by.
const plainWords = (line: Node, columns: Parameters<typeof lineWords>[1]) =>
  lineWords(lineOf(line), columns).replace(/[[\]]/g, "").trim().slice(0, 60);

type Words = { subject: Node; preheader?: Node; body: Node };
/** The text of a template in one of its languages, 0 being the first. */
const textOf = (t: Body, n: number): Words => (n > 0 ? t.variants?.[n - 1] : undefined) ?? t;

function withText(t: Body, n: number, x: Partial<Words>): Body {
  if (n === 0) return { ...t, ...x };
  return { ...t, variants: t.variants?.map((v, i) => (i === n - 1 ? { ...v, ...x } : v)) };
}

/** The letter while it is written, with what it comes to. */
export function TemplateEditor({ sheet, template, beside, copied }: Props) {
  const may = useMay("coordinator");
  const there = usePresence(sheet.id, undefined, template?.id ?? unsaved);
  const narrow = useNarrow();
  const [checking, setChecking] = useState(false);
  const begin = draftOf.template(sheet.id, template?.id);
  const opened = useOpened<Template, Body>(template, (t) =>
    t
      ? t.content
      : // A copy is a draft that has been left for this page. Any other new template takes its language from where the
        // sheet says it stands.
        (copied && leftDraft<Body>(begin)) || {
          name: beside?.name ?? "",
          subject: empty,
          body: greeting(sheet),
          language: sheet.languageColumn || undefined,
        },
  );
  const { mine } = opened;
  const [index, setIndex] = useState(0);
  const [only, setOnly] = useState<Only>({});
  const [language, setLanguage] = useState(0);
  const [begun, setBegun] = useState(0); // counts the times the paper was begun anew
  const names = useNames();
  const draft: Body = { ...mine, name: mine.name || "unnamed" };
  const settled = useSettled(JSON.stringify(draft), 200);
  const shown = JSON.parse(settled) as Body;
  const variant = (shown.variants ?? []).length > 0 ? Math.min(language, shown.variants?.length ?? 0) : undefined;
  const preview = usePreview(sheet.id, shown, index, only, variant);
  const [way, setWay] = useState<Way>("write");
  const [history, setHistory] = useState(false);
  const pieces = api.useQuery("get", "/pieces");
  const c = useChecks(sheet.id, shown);
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
  const kept = useDraft(begin, mine, opened.changed && mine !== undefined, opened.version ?? 0);
  const pv = preview.data;
  const total = pv?.total ?? 0;
  const put = (more: Partial<Body>) => opened.edit((d) => ({ ...d, ...more }));
  const toRow = async (row: string) => {
    const data = await take(
      http.POST("/sheets/{sheet}/preview", { params: { path: { sheet: sheet.id } }, body: { template: shown, row } }),
    ).catch(() => undefined);
    if (!data) return;
    setOnly({});
    setIndex(data.index);
  };
  const leafOnly = (o: Only) => {
    setOnly(o);
    setIndex(0);
  };
  const text = textOf(mine, language);
  const templates = api.useQuery("get", "/templates");
  const others = (templates.data ?? [])
    .filter((t) => t.sheet === sheet.id && t.id !== template?.id)
    .map((t) => t.name);
  const suggested = freeName(plainWords(mine.subject, nameable(sheet)) || `Email of ${sheet.name}`, others);
  const written = (language > 0 && mine.variants?.[language - 1]?.language) || mine.firstLanguage || sheet.locale;
  return (
    <Fields.Provider
      value={{
        columns: nameable(sheet),
        values: pv?.values ?? {},
        parts: pv?.parts ?? {},
        pieces: pieces.data ?? [],
        language: written,
        names,
        ready: !!pv && total > 0 && settled === JSON.stringify(draft) && !preview.isPlaceholderData,
      }}
    >
      <div className="relative flex min-h-0 flex-1 flex-col">
        <div className="flex items-baseline gap-x-6 gap-y-2 px-5 pt-[18px] pb-3.5 max-[899px]:flex-wrap max-[899px]:px-4">
          <Title
            sheet={sheet}
            template={template}
            name={mine.name}
            suggested={suggested}
            checks={c}
            onName={may ? (name) => put({ name }) : undefined}
          />
          <NameLimit name={mine.name} />
          <Here there={there} />
          <Acts
            sheet={sheet}
            template={template}
            opened={opened}
            suggested={suggested}
            may={may}
            trouble={preview.error ? problemOf(preview.error) : undefined}
            onSaved={beside?.onSaved}
            onKept={kept.drop}
            onHistory={() => setHistory(true)}
          />
        </div>
        {!may && (
          <div className="px-5 pb-2">
            <LookOnly what="template" />
          </div>
        )}
        {kept.left && may && (
          <LeftBehind
            at={kept.left.at}
            what="template"
            onTake={() => {
              opened.edit(() => kept.left?.draft ?? mine);
              setBegun((n) => n + 1);
              kept.taken();
            }}
            onDrop={kept.drop}
          />
        )}
        {history && template && (
          <Versions
            sheet={sheet}
            template={template.id}
            now={shown}
            row={pv?.rowId || undefined}
            may={may}
            onPut={(t) => {
              opened.edit((d) => ({ ...t, name: d.name }));
              setBegun((n) => n + 1);
              setLanguage(0);
              setHistory(false);
            }}
            onClose={() => setHistory(false)}
          />
        )}
        {opened.newer && pv && <Both sheet={sheet} opened={opened} mine={pv} />}
        <div className="flex min-h-0 flex-1 border-t border-hair max-[899px]:block max-[899px]:overflow-auto">
          <div className="flex min-w-0 flex-1 flex-col border-r border-hair px-5 pt-3 pr-7">
            <div className="flex flex-wrap items-baseline gap-x-6">
              <Languages
                sheet={sheet}
                template={mine}
                older={template?.older ?? []}
                now={language}
                rows={c?.variants}
                may={may}
                onPick={setLanguage}
                onOnly={(n) => leafOnly({ variant: n })}
                onChange={put}
              />
              {narrow && (
                <button type="button" className="link" onClick={() => setChecking(true)}>
                  Checks
                </button>
              )}
              <Ways way={way} onWay={setWay} />
            </div>
            {/* What is taken over from somebody else begins anew, and so does another language. */}
            <div className={way === "write" ? "contents" : "hidden"}>
              <Paper
                key={`${opened.times}-${begun}-${language}`}
                sheet={sheet}
                text={text}
                dir={pv?.rightToLeft ? "rtl" : "ltr"}
                may={may}
                fresh={!template && opened.times + begun + language === 0}
                put={(x) => opened.edit((d) => withText(d, language, x))}
              />
            </div>
            {way === "html" && (
              <Source
                key={language}
                sheet={sheet.id}
                body={text.body}
                may={may}
                onBody={(body) => {
                  opened.edit((d) => withText(d, language, { body }));
                  setBegun((n) => n + 1);
                }}
              />
            )}
            {way !== "write" && way !== "html" && (
              <Arrives sheet={sheet.id} template={shown} variant={variant} preview={pv} way={way} />
            )}
            <Attachments
              list={mine.attachments ?? []}
              columns={nameable(sheet)}
              may={may}
              onChange={(attachments) => put({ attachments: attachments.length > 0 ? attachments : undefined })}
            />
            <Leaf
              sheet={sheet.id}
              template={shown}
              saved={template}
              preview={pv}
              index={index}
              only={only}
              checks={c}
              onIndex={setIndex}
              onOnly={leafOnly}
              onRow={toRow}
            />
          </div>
          {!beside && !narrow && (
            <Checks
              checks={c}
              says={opened.changed ? says.data : undefined}
              preview={pv}
              onRow={toRow}
              onOnly={leafOnly}
            />
          )}
          {narrow && checking && (
            <Slip title="Checks and preview" onClose={() => setChecking(false)}>
              <Checks
                checks={c}
                says={opened.changed ? says.data : undefined}
                preview={pv}
                onRow={toRow}
                onOnly={leafOnly}
              />
            </Slip>
          )}
        </div>
      </div>
    </Fields.Provider>
  );
}

type TitleProps = {
  sheet: Sheet;
  template?: Template;
  name: string;
  suggested: string; // the name, as long as nobody gives it one
  checks?: Schemas["Checks"];
  onName?: (n: string) => void;
};
function Title(p: TitleProps) {
  const { sheet, template, name, suggested, checks: c } = p;
  return (
    <h1>
      {p.onName ? (
        <input
          aria-label="Name of the template"
          className="min-w-16 border-b border-dotted border-juniper bg-transparent font-semibold outline-offset-4 [field-sizing:content]"
          placeholder={suggested}
          title="Type another name"
          maxLength={longestName}
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
  suggested,
  may,
  trouble,
  onSaved,
  onKept,
  onHistory,
}: {
  sheet: Sheet;
  template?: Template;
  opened: Opened;
  suggested: string; // its name, as long as nobody gives it one
  may: boolean;
  trouble?: Problem;
  onSaved?: (t: Template) => void;
  onKept: () => void;
  onHistory: () => void;
}) {
  const navigate = useNavigate();
  const path = { sheet: sheet.id, template: template?.id ?? "" };
  const leaving = useLeaving(opened.changed && may);
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
    after: (t, sent) => {
      // The server says which text was written when.
      const dated = (d: Body): Body => ({
        ...d,
        written: t.content.written,
        ...(d.variants
          ? {
              variants: d.variants.map((v) => ({
                ...v,
                of: t.content.variants?.find((x) => x.language === v.language)?.of,
              })),
            }
          : {}),
      });
      opened.edit((d) => dated({ ...d, name: d.name.trim() || sent.name }));
      opened.saved(t, dated(sent));
      onKept();
      if (onSaved) onSaved(t);
      else if (!template && leaving.blocker.status !== "blocked")
        leaving.pass(() =>
          navigate({ to: "/templates/$sheet/$template", params: { sheet: sheet.id, template: t.id }, replace: true }),
        );
    },
    quiet: true,
  });
  const users = (template?.usedBy ?? []).map((u) => `${u.letter} ${u.name}`).join(", ");
  const remove = useWrite({
    write: () => http.DELETE("/sheets/{sheet}/templates/{template}", { params: { path } }),
    changes,
    after: () => {
      onKept();
      leaving.pass(() => navigate({ to: "/templates" }));
    },
    quiet: true,
  });
  const ready = may && !save.busy && opened.changed && opened.newer === undefined;
  const mine = opened.mine.name.trim() ? opened.mine : { ...opened.mine, name: suggested };
  useKey("ctrl+s", () => ready && void save.do(mine), may);
  return (
    <span className="ml-auto flex flex-none items-center gap-4">
      <Leaving of={leaving} what="template" onSave={ready ? () => save.do(mine) : undefined} />
      <WriteState of={[save, remove]} problem={trouble} />
      {template && !onSaved && (
        <button type="button" className="link" onClick={onHistory}>
          Versions
        </button>
      )}
      {may && template && !onSaved && <CopyTo sheet={sheet} template={template} mine={opened.mine} />}
      {may && template && !onSaved && (
        <Remove name={template.name} users={users} busy={remove.busy} onRemove={() => void remove.do()} />
      )}
      {may && (
        <button type="button" className="act" disabled={!ready} onClick={() => void save.do(mine)}>
          Save
          <kbd className="key" aria-hidden>
            Ctrl S
          </kbd>
        </button>
      )}
    </span>
  );
}

// A template that rules use stays; it says which.
function Remove({
  name,
  users,
  busy,
  onRemove,
}: {
  name: string;
  users: string;
  busy: boolean;
  onRemove: () => void;
}) {
  return (
    <Blank words="Delete …" title={`Delete ${name}`}>
      {users ? (
        <p className="max-w-72">It is used by {users}. Give each another template first.</p>
      ) : (
        <div className="flex max-w-72 flex-col items-start gap-2">
          <p>No rule uses it. What it has written stays in the log.</p>
          <button type="button" className="link text-brick!" disabled={busy} onClick={onRemove}>
            Delete it
          </button>
        </div>
      )}
    </Blank>
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
          body: { template: (newer as Template).content, row: mine.rowId || undefined, pointing: true },
        }),
      ),
  });
  return (
    <div className="max-h-[60%] flex-none overflow-auto px-5">
      <Overtaken
        what="template"
        theirs={<Differing name={newer?.name ?? ""} of={theirs.data} other={mine} />}
        mine={<Differing name={opened.mine.name} of={mine} other={theirs.data} />}
        onTheirs={opened.takeTheirs}
        onMine={opened.keepMine}
      />
    </div>
  );
}

// The letter while it is written.
type PaperProps = {
  sheet: Sheet;
  text: Words;
  dir: "ltr" | "rtl";
  may: boolean;
  fresh: boolean; // nothing has been written yet: the cursor stands where one begins
  put: (more: Partial<Words>) => void;
};
function Paper({ sheet, text, dir, may, fresh, put }: PaperProps) {
  const [editor, setEditor] = useState<Editor | null>(null);
  const [target, setTarget] = useState<Editor | null>(null);
  const columns = nameable(sheet);
  return (
    <>
      {editor && may && <Tools body={editor} target={target ?? editor} columns={columns} />}
      {/* A click beside the words is meant for them. */}
      {/* eslint-disable-next-line jsx-a11y/no-static-element-interactions, jsx-a11y/click-events-have-key-events */}
      <div
        dir={dir}
        className="min-h-0 flex-1 cursor-text overflow-auto max-[899px]:min-h-72 max-[899px]:flex-none border border-hair-2 bg-sheet px-8 pt-2 pb-6.5 max-lg:px-6"
        onClick={(e) => e.target === e.currentTarget && editor?.commands.focus("end")}
      >
        <LineEditor
          label="Subject"
          hint="What it is about"
          content={text.subject}
          columns={columns}
          editable={may}
          className="text-[19px] leading-[27px] font-semibold"
          focused={fresh}
          onChange={(subject) => put({ subject })}
          onFocus={setTarget}
          onEnter={() => editor?.commands.focus("end")}
        />
        <LineEditor
          label="Preview text"
          hint="Shown after the subject"
          content={text.preheader ?? empty}
          columns={columns}
          editable={may}
          className="text-[15px] leading-[23px]"
          onChange={(n) => put({ preheader: (n.content?.[0]?.content ?? []).length > 0 ? n : undefined })}
          onFocus={setTarget}
          onEnter={() => editor?.commands.focus("end")}
        />
        <div className="mt-4" onFocus={() => setTarget(editor)}>
          <BodyEditor
            content={text.body}
            columns={columns}
            editable={may}
            onChange={(body) => put({ body })}
            onReady={setEditor}
          />
        </div>
      </div>
    </>
  );
}
