import { keepPreviousData } from "@tanstack/react-query";
import { useState } from "react";
import { base } from "../../api/base";
import { api } from "../../api/client";
import { Await } from "../../parts/await";
import { Scroll } from "../../parts/scroll";
import { useNow, useZone } from "../../parts/session";
import { LetterFrame } from "../../parts/letter";
import { size } from "../../parts/size";
import { Slip } from "../../parts/slip";
import { count, moment } from "../../parts/time";

// What the practice mail server has taken, as its recipients would see it.
export function PracticeMailbox() {
  const [find, setFind] = useState("");
  const [befores, setBefores] = useState<string[]>([]);
  const [open, setOpen] = useState<string>();
  const now = useNow(60000);
  const zone = useZone();
  const before = befores[befores.length - 1];
  const q = api.useQuery(
    "get",
    "/practice/messages",
    { params: { query: { find: find || undefined, before } } },
    { placeholderData: keepPreviousData },
  );
  const d = q.data;
  if (!d) return <Await query={q} />;
  const last = d.messages[d.messages.length - 1];
  return (
    <div className="relative flex min-h-0 flex-1 flex-col">
      <div className="flex flex-wrap items-baseline gap-6 px-5 py-4">
        <h1>
          {d.total === 0 && !find ? (
            <>
              <b>Practice mailbox.</b> Empty. What the practice mail server takes stands here; nothing of it leaves
              this machine.
            </>
          ) : (
            <>
              <b>Practice mailbox.</b> {count(d.total, "mail")}
              {find && ` holding “${find}”`}; nothing of it has left this machine.
            </>
          )}
        </h1>
        <input
          className="field ml-auto w-60"
          aria-label="Find emails"
          placeholder="find by address or subject"
          value={find}
          onChange={(e) => {
            setFind(e.target.value);
            setBefores([]);
          }}
        />
      </div>
      <div
        className="min-h-0 flex-1 overflow-auto border-t border-hair bg-sheet px-5"
        tabIndex={0}
        role="region"
        aria-label="Emails"
      >
        <table className="tbl">
          <thead>
            <tr>
              <th>Came</th>
              <th>To</th>
              <th>Subject</th>
            </tr>
          </thead>
          <tbody>
            {d.messages.map((m) => (
              <tr key={m.id} className={`hover:bg-wash ${m.id === open ? "bg-wash" : ""}`}>
                <td className="whitespace-nowrap">{moment(m.at, zone, now)}</td>
                <td className="max-w-80 truncate">{m.to.join(", ")}</td>
                <td>
                  <button type="button" className="text-left hover:underline" onClick={() => setOpen(m.id)}>
                    {m.subject || "no subject"}
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <div className="flex gap-5 py-3">
          {befores.length > 0 && (
            <button type="button" className="link" onClick={() => setBefores(befores.slice(0, -1))}>
              newer
            </button>
          )}
          {d.messages.length === 100 && last && (
            <button type="button" className="link" onClick={() => setBefores([...befores, last.id])}>
              older
            </button>
          )}
        </div>
      </div>
      {open && <Mail id={open} onClose={() => setOpen(undefined)} />}
    </div>
  );
}

// An address without a name needs no brackets to be read.
function plain(h?: string) {
  return h?.replace(/(^|, )<([^>]*)>/g, "$1$2");
}

function Mail({ id, onClose }: { id: string; onClose: () => void }) {
  const q = api.useQuery("get", "/practice/messages/{message}", { params: { path: { message: id } } });
  const [part, setPart] = useState<"letter" | "text" | "source">("letter");
  const d = q.data;
  if (!d)
    return (
      <Slip title="Email" onClose={onClose} wide>
        <Await query={q} />
      </Slip>
    );
  const header = (name: string) => d.headers.find((h) => h[0]?.toLowerCase() === name)?.[1];
  return (
    <Slip
      title={d.message.subject}
      onClose={onClose}
      wide
      head={<span>from {header("from") ?? d.envelopeFrom}</span>}
      foot={
        <a className="link" href={`${base}/api/practice/messages/${id}/message.eml`} download={`mail-${id}.eml`}>
          Download .eml
        </a>
      }
    >
      <h2 className="mt-1 mb-1 font-letter text-lg! leading-6 font-semibold!">{d.message.subject}</h2>
      <p className="border-b border-hair pb-2 text-ink-2">
        to {plain(header("to")) ?? d.message.to.join(", ")}
        {header("cc") && `, Cc ${plain(header("cc"))}`}
        {header("reply-to") && `, Reply-To ${plain(header("reply-to"))}`}
      </p>
      <div className="flex gap-4 py-2">
        {(["letter", "text", "source"] as const).map((p) => (
          <button
            key={p}
            type="button"
            className={p === part ? "border-b-[1.5px] border-ink font-semibold" : "link"}
            aria-pressed={p === part}
            onClick={() => setPart(p)}
          >
            {p === "letter" ? "Email" : p === "text" ? "Plain text" : "Source"}
          </button>
        ))}
      </div>
      {part === "letter" &&
        (d.html ? (
          <LetterFrame html={d.html} title="The email as HTML" height={430} />
        ) : (
          <p className="text-ink-2">This email has no HTML, only plain text.</p>
        ))}
      {d.files.length > 0 && (
        <p className="mt-2 flex flex-wrap gap-x-4 text-ink-2">
          With it:
          {d.files.map((f, i) => (
            <a key={i} className="link" href={`${base}/api/practice/messages/${id}/files/${i}`} download={f.name}>
              {f.name} <small className="text-ink-2">{size(f.size)}</small>
            </a>
          ))}
        </p>
      )}
      {part === "text" && (
        <Scroll label="Plain text" className="border border-hair-2 p-3">
          <pre className="font-sans whitespace-pre-wrap">{d.text}</pre>
        </Scroll>
      )}
      {part === "source" && (
        <Scroll label="Source" className="border border-hair-2 p-3">
          <pre className="font-mono text-[10.5px] leading-4 break-all whitespace-pre-wrap">{d.source}</pre>
        </Scroll>
      )}
    </Slip>
  );
}
