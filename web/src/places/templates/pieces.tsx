// The texts that many letters use, below the list of templates.
import { lazy, Suspense } from "react";
import { api, http, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { draftOf } from "../../parts/draft";
import { useMay } from "../../parts/session";

// The editor comes when it is needed.
const PieceSlip = lazy(() => import("./piece").then((m) => ({ default: m.PieceSlip })));
const noPiece: Schemas["PieceBody"] = { name: "", body: { type: "doc", content: [{ type: "paragraph" }] } };

export function Pieces({ onOpen }: { onOpen: (id: string) => void }) {
  const may = useMay("coordinator");
  const q = api.useQuery("get", "/pieces");
  const list = q.data ?? [];
  if (!may && list.length === 0) return null;
  return (
    <section className="mx-5 mt-6 pb-8" aria-label="Pieces of text">
      <h2 className="mb-1">Pieces of text</h2>
      <p className="mb-2 text-ink-2">
        What several templates say alike, such as opening hours: changed here, it is changed in all of them. “Insert”
        in a template’s tools puts one in.
      </p>
      {list.length > 0 && (
        <table className="tbl max-w-5xl">
          <thead>
            <tr>
              <th>Piece</th>
              <th>Used by</th>
            </tr>
          </thead>
          <tbody>
            {list.map((p) => (
              <tr key={p.id} className="hover:bg-wash">
                <td>
                  <button type="button" className="link text-sm!" onClick={() => onOpen(p.id)}>
                    {p.name}
                  </button>
                </td>
                <td className="text-ink-2">{p.usedBy.map((u) => u.name).join(", ") || "no template"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {may && (
        <button type="button" className="link mt-2" onClick={() => onOpen("new")}>
          Write a piece of text
        </button>
      )}
    </section>
  );
}

/** The slip of a piece, or of a new one. */
export function PieceOpen({ id, onClose }: { id: string; onClose: () => void }) {
  const q = api.useQuery("get", "/pieces");
  const piece = q.data?.find((p) => p.id === id);
  if (id !== "new" && !piece) return null;
  return (
    <Suspense>
      <One key={piece ? `${piece.id}-${piece.version}` : "new"} piece={piece} onClose={onClose} />
    </Suspense>
  );
}

function One({ piece, onClose }: { piece?: Schemas["Piece"]; onClose: () => void }) {
  const changes = [keys.pieces, keys.templates];
  const save = useWrite<Schemas["PieceBody"], Schemas["Piece"]>({
    write: (p) =>
      piece
        ? http.PUT("/pieces/{piece}", {
            params: { path: { piece: piece.id } },
            body: { piece: p, version: piece.version },
          })
        : http.POST("/pieces", { body: { piece: p } }),
    changes,
    saved: (p) => (p.usedBy.length > 0 ? `Saved; it is so in ${p.usedBy.length} templates from now on.` : undefined),
    after: onClose,
    quiet: true,
  });
  const remove = useWrite({
    write: () => http.DELETE("/pieces/{piece}", { params: { path: { piece: piece?.id ?? "" } } }),
    changes,
    after: onClose,
    quiet: true,
  });
  return (
    <PieceSlip
      title={piece?.name ?? "A new piece of text"}
      named
      draft={draftOf.piece(piece?.id)}
      piece={piece?.content ?? noPiece}
      note={piece && piece.usedBy.length > 0 ? `It stands in ${piece.usedBy.map((u) => u.name).join(", ")}.` : ""}
      busy={save.busy || remove.busy}
      failed={save.failed?.title ?? remove.failed?.title}
      onSave={save.do}
      onRemove={piece && (() => void remove.do())}
      onClose={onClose}
    />
  );
}
