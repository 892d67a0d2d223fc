import { useQueryClient } from "@tanstack/react-query";
import { toast } from "sonner";
import { api, http, words } from "../../api/client";
import { useMay } from "../../parts/session";
import { Tokens } from "../sheets/programs";

// Who else may get at rows: programs by their tokens, and sheets at files.
export function Programs() {
  const administrator = useMay("administrator");
  return (
    <div className="min-h-0 flex-1 overflow-auto px-5 py-4" tabIndex={0} role="region" aria-label="Programs and sources">
      <h2 className="mb-2">Tokens</h2>
      <Tokens />
      {administrator && <Sources />}
    </div>
  );
}

function Sources() {
  const q = api.useQuery("get", "/setup/sources");
  const client = useQueryClient();
  const set = async (inside: boolean) => {
    const { error } = await http.PUT("/setup/sources", { body: { inside } });
    if (error) toast.error(words(error));
    await client.invalidateQueries({ queryKey: ["get", "/setup/sources"] });
  };
  if (!q.data) return null;
  return (
    <>
      <h2 className="mt-8 mb-2">Files that sheets follow</h2>
      <p className="text-ink-2">
        {q.data.folder
          ? `Files in ${q.data.folder} may be followed, and addresses on the web.`
          : "No folder is watched; set NIVOT_SOURCES to one. Addresses on the web may be followed."}
      </p>
      <label className="mt-2 flex items-center gap-2">
        <input type="checkbox" className="accent-juniper" checked={q.data.inside} onChange={(e) => void set(e.target.checked)} />
        also addresses inside the own network, which Nivot would otherwise not ask
      </label>
    </>
  );
}
