// What goes with each email of a letter: files, put here or dropped on the paper's foot.
import { useState } from "react";
import { base } from "../../api/base";
import { type Column, type Schemas, upload, words } from "../../api/client";
import { size } from "../../parts/size";
import { NumberField } from "../../parts/fields";
import { Blank } from "../../parts/picker";
import { PickFiles } from "../../parts/pickfiles";
import { isDate, valueType } from "../sheets/cell";
import { type Line, LineField, lineWords } from "./line";

export type Attachment = Schemas["Attachment"];
type Props = { list: Attachment[]; columns: Column[]; may: boolean; onChange: (l: Attachment[]) => void };

const isFiles = (t: DataTransfer) => [...t.types].includes("Files");

export function Attachments({ list, columns, may, onChange }: Props) {
  const [busy, setBusy] = useState("");
  const [failed, setFailed] = useState("");
  const [over, setOver] = useState(false);
  const dates = columns.filter(isDate);
  const files = columns.filter((c) => c.type === "file");
  if (list.length === 0 && !may) return null;
  const put = (i: number) => (a: Attachment) => onChange(list.map((x, k) => (k === i ? a : x)));
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
          <Blank
            words={lineWords(a.name as Line, columns) || unnamed(a, columns)}
            title="With each email"
            disabled={!may}
          >
            <div className="flex w-72 flex-col gap-2.5">
              <LineField
                label="It is called"
                value={a.name as Line}
                columns={columns}
                onChange={(name) => put(i)({ ...a, name })}
              />
              {a.kind === "rows" ? (
                <RowsOptions a={a} columns={columns} onChange={put(i)} />
              ) : a.kind === "column" ? (
                <RowFilesOptions a={a} columns={columns} onChange={put(i)} />
              ) : a.kind === "invitation" ? (
                <InvitationOptions a={a} columns={columns} onChange={put(i)} />
              ) : (
                <a
                  className="link"
                  href={`${base}/api/files/${a.file ?? ""}`}
                  download={lineWords(a.name as Line, columns)}
                >
                  Download
                </a>
              )}
              <button
                type="button"
                className="link self-start text-brick!"
                onClick={() => onChange(list.filter((_, k) => k !== i))}
              >
                Remove
              </button>
            </div>
          </Blank>
          <small>{kindWords(a)}</small>
        </span>
      ))}
      {may && <PickFiles label="Attach a file" onFiles={(files) => void add(files)} />}
      {may && (
        <button
          type="button"
          className="link"
          onClick={() =>
            onChange([
              ...list,
              { kind: "rows", format: "xlsx", name: "Rows.xlsx", columns: columns.slice(0, 8).map((c) => c.id) },
            ])
          }
        >
          Attach the rows of the round-up
        </button>
      )}
      {may && files[0] && (
        <button
          type="button"
          className="link"
          onClick={() =>
            onChange([
              ...list,
              { kind: "column", column: files.find((c) => !list.some((a) => a.column === c.id))?.id ?? files[0]?.id },
            ])
          }
        >
          Attach the row’s own files
        </button>
      )}
      {may && dates[0] && (
        <button
          type="button"
          className="link"
          onClick={() =>
            onChange([
              ...list,
              {
                kind: "invitation",
                start: dates[0]?.id ?? "",
                lasts: 60,
                title: dates[0]?.name ?? "",
                name: "invitation.ics",
              },
            ])
          }
        >
          Attach an invitation
        </button>
      )}
      {busy && <span role="status">Uploading {busy} …</span>}
      {failed && (
        <span role="alert" className="text-brick">
          {failed}
        </span>
      )}
    </div>
  );
}

const unnamed = (a: Attachment, columns: Column[]) =>
  a.kind === "column"
    ? `the files in ${columns.find((c) => c.id === a.column)?.name ?? "a column that is not there"}`
    : "attachment";
const kindWords = (a: Attachment) =>
  ({ rows: "the rows of the round-up", invitation: "an invitation", column: "of each row", file: size(a.size ?? 0) })[
    a.kind
  ];

// The files that each row names: in which column, and what a row without one does.
function RowFilesOptions({
  a,
  columns,
  onChange,
}: {
  a: Attachment;
  columns: Column[];
  onChange: (a: Attachment) => void;
}) {
  return (
    <>
      <p className="text-ink-2">Without a name here, each file keeps its own.</p>
      <label className="flex items-center justify-between gap-3">
        The files in
        <select className="field" value={a.column ?? ""} onChange={(e) => onChange({ ...a, column: e.target.value })}>
          {columns
            .filter((c) => c.type === "file")
            .map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
        </select>
      </label>
      <label className="flex items-center justify-between gap-3">
        A row that names none
        <select
          className="field"
          value={a.optional ? "go" : "wait"}
          onChange={(e) => onChange({ ...a, optional: e.target.value === "go" || undefined })}
        >
          <option value="wait">makes its email incomplete</option>
          <option value="go">gets the email without</option>
        </select>
      </label>
    </>
  );
}

// An invitation: to what, when and where, and what a row without a date does.
function InvitationOptions({
  a,
  columns,
  onChange,
}: {
  a: Attachment;
  columns: Column[];
  onChange: (a: Attachment) => void;
}) {
  const dates = columns.filter(isDate);
  const start = dates.find((c) => c.id === a.start);
  const row = "flex items-center justify-between gap-3";
  return (
    <>
      <LineField
        label="To what"
        value={(a.title ?? "") as Line}
        columns={columns}
        onChange={(title) => onChange({ ...a, title })}
      />
      <LineField
        label="Where"
        value={(a.place ?? "") as Line}
        columns={columns}
        onChange={(place) => onChange({ ...a, place })}
      />
      <LineField
        label="What else it says"
        value={(a.note ?? "") as Line}
        columns={columns}
        onChange={(note) => onChange({ ...a, note })}
      />
      <label className={row}>
        It starts
        <select className="field" value={a.start ?? ""} onChange={(e) => onChange({ ...a, start: e.target.value })}>
          {dates.map((c) => (
            <option key={c.id} value={c.id}>
              {c.name}
            </option>
          ))}
        </select>
      </label>
      <label className={row}>
        and ends
        <select
          className="field"
          value={a.end ?? ""}
          onChange={(e) => onChange({ ...a, end: e.target.value || undefined })}
        >
          <option value="">
            {start && valueType(start) === "date" ? "on the same day" : "after so many minutes"}
          </option>
          {dates
            .filter((c) => c.id !== a.start)
            .map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
        </select>
      </label>
      {!a.end && start && valueType(start) === "moment" && (
        <span className={row}>
          Minutes
          <NumberField
            label="Minutes"
            whole
            min={0}
            max={10080}
            value={a.lasts ?? 60}
            onChange={(lasts) => onChange({ ...a, lasts })}
          />
        </span>
      )}
      <label className="flex items-baseline gap-2">
        <input
          type="checkbox"
          className="accent-juniper"
          checked={a.cancel === true}
          onChange={(e) => onChange({ ...a, cancel: e.target.checked || undefined })}
        />
        a row without a date calls it off
      </label>
      <p className="text-ink-2">Sent again for the same row, it moves the event in the recipient’s calendar.</p>
    </>
  );
}

// The rows of a round-up as a file: in which form, and which columns.
function RowsOptions({
  a,
  columns,
  onChange,
}: {
  a: Attachment;
  columns: Column[];
  onChange: (a: Attachment) => void;
}) {
  const picked = a.columns ?? [];
  const ending = (format: "csv" | "xlsx") =>
    typeof a.name === "string" ? a.name.replace(/\.(csv|xlsx)$/, `.${format}`) : a.name;
  return (
    <>
      <label className="flex items-center justify-between gap-3">
        As
        <select
          className="field"
          value={a.format}
          onChange={(e) => {
            const format = e.target.value as "csv" | "xlsx";
            onChange({ ...a, format, name: ending(format) });
          }}
        >
          <option value="xlsx">a workbook (XLSX)</option>
          <option value="csv">a text table (CSV)</option>
        </select>
      </label>
      <fieldset className="flex max-h-52 flex-col gap-1 overflow-auto">
        <legend className="mb-1 text-ink-2">With these columns</legend>
        {columns.map((c) => (
          <label key={c.id} className="flex items-center gap-2">
            <input
              type="checkbox"
              className="accent-juniper"
              checked={picked.includes(c.id)}
              disabled={picked.length === 1 && picked.includes(c.id)}
              onChange={(e) =>
                onChange({
                  ...a,
                  columns: columns
                    .map((x) => x.id)
                    .filter((id) => (id === c.id ? e.target.checked : picked.includes(id))),
                })
              }
            />
            {c.name}
          </label>
        ))}
      </fieldset>
    </>
  );
}
