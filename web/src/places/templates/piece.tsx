// A text that many letters use, while it is written: opening hours, a sender's signature.
import type { Editor } from "@tiptap/react";
import { useState } from "react";
import type { Node, Schemas } from "../../api/client";
import { LeftBehind, useDraft } from "../../parts/draft";
import { LocaleSelect } from "../../parts/locales";
import { Blank } from "../../parts/picker";
import { Slip } from "../../parts/slip";
import { Fields } from "./field";
import { languageName } from "./languages";
import { BodyEditor } from "./letter";
import { Tools } from "./tools";

type Body = Schemas["PieceBody"];

type Props = {
  title: string;
  piece: Body;
  draft: string; // the name of its draft
  named?: boolean; // it has a name of its own
  note: string;
  busy: boolean;
  failed?: string;
  onSave: (p: Body) => Promise<unknown>;
  onRemove?: () => void;
  onClose: () => void;
};

export function PieceSlip({ title, piece, draft, named, note, busy, failed, onSave, onRemove, onClose }: Props) {
  const [mine, setMine] = useState(piece);
  const [begun, setBegun] = useState(0);
  const kept = useDraft(draft, mine, JSON.stringify(mine) !== JSON.stringify(piece), 0);
  const [language, setLanguage] = useState(0);
  const [editor, setEditor] = useState<Editor | null>(null);
  const variants = mine.variants ?? [];
  const body = variants[language - 1]?.body ?? mine.body;
  const put = (n: Node) =>
    setMine((m) =>
      language === 0
        ? { ...m, body: n }
        : { ...m, variants: variants.map((v, i) => (i === language - 1 ? { ...v, body: n } : v)) },
    );
  const changed = JSON.stringify(mine) !== JSON.stringify(piece);
  return (
    <Slip
      title={title}
      onClose={onClose}
      wide="letter"
      foot={
        <>
          <button
            type="button"
            className="act"
            disabled={busy || !changed || (named && !mine.name.trim())}
            onClick={() => void onSave(mine).then((done) => done !== undefined && kept.drop())}
          >
            Save
          </button>
          {onRemove && (
            <button type="button" className="link text-brick!" disabled={busy} onClick={onRemove}>
              Delete
            </button>
          )}
          <span role="alert" className="text-brick">
            {failed}
          </span>
          <span className="text-ink-2">{note}</span>
        </>
      }
    >
      <Fields.Provider
        value={{
          columns: [],
          values: {},
          parts: {},
          pieces: [],
          language: variants[language - 1]?.language ?? "",
          names: true,
          ready: false,
        }}
      >
        <div className="flex min-h-0 flex-1 flex-col px-6 pb-4">
          {kept.left && (
            <LeftBehind
              what="text"
              at={kept.left.at}
              onTake={() => {
                setMine(kept.left?.draft ?? mine);
                setBegun((n) => n + 1);
                kept.taken();
              }}
              onDrop={kept.drop}
            />
          )}
          <h2 className="mt-1 mb-2">
            {named ? (
              <input
                aria-label="Name of the piece of text"
                placeholder="Name it: Opening hours"
                className="w-80 border-b border-dotted border-juniper bg-transparent"
                value={mine.name}
                onChange={(e) => setMine({ ...mine, name: e.target.value })}
              />
            ) : (
              title
            )}
          </h2>
          <div className="flex flex-wrap items-baseline gap-x-4 pb-2 text-ink-2" role="group" aria-label="Languages">
            {variants.length > 0 &&
              ["", ...variants.map((v) => v.language)].map((tag, i) => (
                <button
                  key={tag}
                  type="button"
                  aria-pressed={language === i}
                  className={language === i ? "border-b-[1.5px] border-ink font-semibold text-ink" : "link"}
                  onClick={() => setLanguage(i)}
                >
                  {tag === "" ? "In any other language" : languageName(tag)}
                </button>
              ))}
            <Another
              taken={variants.map((v) => v.language)}
              onAdd={(tag) => {
                setMine({ ...mine, variants: [...variants, { language: tag, body: mine.body }] });
                setLanguage(variants.length + 1);
              }}
            />
          </div>
          {editor && <Tools body={editor} target={editor} columns={[]} kind="piece" />}
          <div className="min-h-0 flex-1 overflow-auto border border-hair-2 bg-sheet px-8 py-5">
            <BodyEditor
              key={`${language}-${begun}`}
              content={body}
              columns={[]}
              editable
              kind="piece"
              label={title}
              onChange={put}
              onReady={setEditor}
            />
          </div>
        </div>
      </Fields.Provider>
    </Slip>
  );
}

function Another({ taken, onAdd }: { taken: string[]; onAdd: (tag: string) => void }) {
  const [open, setOpen] = useState(false);
  const [tag, setTag] = useState("de");
  const there = taken.includes(tag);
  return (
    <Blank words="another language …" title="In another language" open={open} onOpenChange={setOpen}>
      <div className="flex flex-col items-start gap-2">
        <LocaleSelect value={tag} onChange={setTag} />
        <button
          type="button"
          className="link"
          disabled={there}
          onClick={() => {
            setOpen(false);
            onAdd(tag);
          }}
        >
          {there ? `It is written in ${languageName(tag)} already` : `Write it in ${languageName(tag)}`}
        </button>
      </div>
    </Blank>
  );
}
