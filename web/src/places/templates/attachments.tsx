// What goes with each email of a letter: files, put here or dropped on the paper's foot.
import { Popover } from "radix-ui";
import { useId, useState } from "react";
import { type Column, type Schemas, upload, words } from "../../api/client";
import { size } from "../../parts/size";
import { type Line, LineField, lineWords } from "./line";

export type Attachment = Schemas["Attachment"];
type Props = { list: Attachment[]; columns: Column[]; may: boolean; onChange: (l: Attachment[]) => void };

const isFiles = (t: DataTransfer) => [...t.types].includes("Files");

export function Attachments({ list, columns, may, onChange }: Props) {
  const id = useId();
  const [busy, setBusy] = useState("");
  const [failed, setFailed] = useState("");
  const [over, setOver] = useState(false);
  if (list.length === 0 && !may) return null;
  const add = async (files: File[]) => {
    let now = list;
    setFailed("");
    for (const f of files) {
      setBusy(f.name);
      try {
        const kept = await upload<Schemas["KeptFile"]>("/files", { file: f });
        now = [...now, { kind: "file", name: kept.name, file: kept.file, type: kept.type, size: kept.size }];
        onChange(now);
      } catch (e) {
        setFailed(words(e));
      }
    }
    setBusy("");
  };
  return (
    <div
      className={`flex flex-wrap items-baseline gap-x-4 gap-y-1 border-t border-hair-2 py-2 text-ink-2 ${over ? "bg-wash" : ""}`}
      aria-label="Attachments"
      role="group"
      onDragOver={(e) => {
        if (!may || !isFiles(e.dataTransfer)) return;
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        setOver(false);
        if (!may || !isFiles(e.dataTransfer)) return;
        e.preventDefault();
        void add([...e.dataTransfer.files]);
      }}
    >
      <span>{list.length === 0 ? "Nothing is attached." : "With each email"}</span>
      {list.map((a, i) => (
        <span key={i} className="flex items-baseline gap-1.5">
          <Popover.Root>
            <Popover.Trigger className="blank" disabled={!may}>
              {lineWords(a.name as Line, columns)}
            </Popover.Trigger>
            <Popover.Portal>
              <Popover.Content
                className="pop flex w-80 flex-col gap-2.5 p-3.5 text-[13px]"
                sideOffset={6}
                align="start"
                collisionPadding={12}
              >
                <LineField
                  label="It is called"
                  value={a.name as Line}
                  columns={columns}
                  onChange={(name) => onChange(list.map((x, k) => (k === i ? { ...x, name } : x)))}
                />
                <a className="link" href={`/api/files/${a.file ?? ""}`} download={lineWords(a.name as Line, columns)}>
                  Download
                </a>
                <button type="button" className="link self-start text-brick!" onClick={() => onChange(list.filter((_, k) => k !== i))}>
                  Remove
                </button>
              </Popover.Content>
            </Popover.Portal>
          </Popover.Root>
          <small>{size(a.size ?? 0)}</small>
        </span>
      ))}
      {may && (
        <label className="link cursor-pointer focus-within:outline-2 focus-within:outline-juniper" htmlFor={id}>
          Attach a file
          <input
            id={id}
            type="file"
            multiple
            className="sr-only"
            onChange={(e) => {
              void add([...(e.target.files ?? [])]);
              e.target.value = "";
            }}
          />
        </label>
      )}
      {busy && <span role="status">Taking in {busy} …</span>}
      {failed && (
        <span role="alert" className="text-brick">
          {failed}
        </span>
      )}
    </div>
  );
}
