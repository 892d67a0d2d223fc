import { api, http } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { Await } from "../../parts/await";
import { Scroll } from "../../parts/scroll";
import { useMay } from "../../parts/session";
import { Tokens } from "../sheets/programs";

// Who else may get at rows: programs by their tokens, and sheets at files.
export function Programs() {
  const administrator = useMay("administrator");
  return (
    <Scroll label="Programs and sources" className="min-h-0 flex-1 px-5 py-4">
      <h1 className="mb-4">
        <b>Programs and sources.</b> Programs add and change rows with a token; sheets may follow files that somebody
        else keeps.
      </h1>
      <h2 className="mb-2">Tokens</h2>
      <Tokens />
      {administrator && <Sources />}
    </Scroll>
  );
}

function Sources() {
  const q = api.useQuery("get", "/setup/sources");
  const set = useWrite({
    write: (inside: boolean) => http.PUT("/setup/sources", { body: { inside } }),
    changes: [keys.fetching],
  });
  if (!q.data) return <Await query={q} />;
  return (
    <>
      <h2 className="mt-8 mb-2">Files that sheets follow</h2>
      <p className="text-ink-2">
        {q.data.folder
          ? `Files in ${q.data.folder} may be followed, and addresses on the web.`
          : "No folder is watched; set NIVOT_SOURCES to one. Addresses on the web may be followed."}
      </p>
      <label className="mt-2 flex items-center gap-2">
        <input
          type="checkbox"
          className="accent-juniper"
          checked={q.data.inside}
          onChange={(e) => void set.do(e.target.checked)}
        />
        also addresses inside the own network, which Nivot would otherwise not ask
      </label>
    </>
  );
}
