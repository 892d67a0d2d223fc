import { useState } from "react";
import { api, http } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { useMay, useNow, useZone } from "../../parts/session";
import { count, moment } from "../../parts/time";

export function DoNotEmail() {
  const q = api.useQuery("get", "/setup/do-not-email");
  const may = useMay("coordinator");
  const now = useNow(60000);
  const zone = useZone();
  const [address, setAddress] = useState("");
  const [reason, setReason] = useState("");
  const add = useWrite({
    write: () => http.POST("/setup/do-not-email", { body: { address, reason } }),
    changes: [keys.silenced],
    after: () => {
      setAddress("");
      setReason("");
    },
  });
  const remove = useWrite({
    write: ({ address }: { address: string; reason: string }) =>
      http.DELETE("/setup/do-not-email/{address}", { params: { path: { address } } }),
    changes: [keys.silenced],
    saved: (_, d) => `${d.address} may be written to again.`,
    undo: (_, { address, reason }) => http.POST("/setup/do-not-email", { body: { address, reason } }),
  });
  if (!q.data) return <Await query={q} />;
  return (
    <div className="overflow-auto px-5 py-4">
      <h1 className="mb-3">
        <b>Do-not-email list.</b>{" "}
        {q.data.length === 0
          ? "Nobody is on it. An address on it gets nothing more, whatever a rule says."
          : `${count(q.data.length, "address gets", "addresses get")} nothing more, whatever a rule says.`}
      </h1>
      <table className="tbl max-w-4xl">
        <tbody>
          {q.data.map((d) => (
            <tr key={d.address}>
              <td>{d.address}</td>
              <td className="text-ink-2">{d.reason}</td>
              <td className="text-ink-2">
                {d.by}, {moment(d.at, zone, now)}
              </td>
              <td>
                {may && (
                  <button
                    type="button"
                    className="link"
                    aria-label={`Remove ${d.address} from the list`}
                    onClick={() => void remove.do(d)}
                  >
                    Remove
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {may && (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            void add.do();
          }}
          className="mt-4 flex flex-wrap gap-3"
        >
          <input
            className="field w-64"
            required
            aria-label="Address"
            placeholder="name@place.example"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
          />
          <input
            className="field w-64"
            aria-label="Reason"
            placeholder="reason"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <button type="submit" className="act-plain" disabled={add.busy}>
            Add to the list
          </button>
        </form>
      )}
    </div>
  );
}
