// What stands under a sender's letters.
import { lazy, Suspense } from "react";
import { api, http, type Schemas } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { draftOf } from "../../parts/draft";

const PieceSlip = lazy(() => import("../templates/piece").then((m) => ({ default: m.PieceSlip })));
const none: Schemas["PieceBody"] = { name: "signature", body: { type: "doc", content: [{ type: "paragraph" }] } };

export function SignatureSlip({ sender: id, onClose }: { sender: string; onClose: () => void }) {
  const senders = api.useQuery("get", "/setup/senders");
  const s = senders.data?.find((x) => x.id === id);
  const save = useWrite<Schemas["PieceBody"]>({
    write: (signature) => {
      const { name, address, host, port, security, username } = s as Schemas["Sender"];
      return http.PUT("/setup/senders/{sender}", {
        params: { path: { sender: id } },
        body: { name, address, host, port, security, username, signature },
      });
    },
    changes: [keys.senders],
    after: onClose,
    quiet: true,
  });
  if (!s) return null;
  return (
    <Suspense>
      <PieceSlip
        title={`Signature of ${s.name}`}
        piece={s.signature ?? none}
        draft={draftOf.signature(id)}
        note="It stands where a template has its signature; Insert puts it there."
        busy={save.busy}
        failed={save.failed?.title}
        onSave={save.do}
        onClose={onClose}
      />
    </Suspense>
  );
}
