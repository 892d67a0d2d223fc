import { Dialog } from "radix-ui";
import type { Edits } from "./edits";

// Two people wrote in one cell: the later one sees both and chooses.
export function Clashes({ edits }: { edits: Edits }) {
  const { clashes, setClashes, change } = edits;
  const settle = (list: typeof clashes, mine: boolean) => {
    if (mine)
      change(
        "edit",
        list.map((c) => ({
          op: "edit" as const,
          row: c.row,
          cells: { [c.column]: c.yours },
          expected: { [c.column]: c.theirs },
        })),
      );
    setClashes((all) => all.filter((c) => !list.includes(c)));
  };
  return (
    <Dialog.Root open={clashes.length > 0} onOpenChange={(o) => !o && setClashes([])}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/10" />
        <Dialog.Content className="pop fixed top-24 left-1/2 z-50 max-h-[70vh] w-[680px] max-w-[94vw] -translate-x-1/2 overflow-auto p-6">
          <Dialog.Title className="mb-1 font-letter text-lg font-semibold">
            Somebody else wrote there meanwhile
          </Dialog.Title>
          <Dialog.Description className="mb-3 text-ink-2">
            Theirs stands now. Nothing of yours is written until you choose it.
          </Dialog.Description>
          <table className="tbl">
            <thead>
              <tr>
                <th>Cell</th>
                <th>Theirs</th>
                <th>Yours</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {clashes.slice(0, 50).map((c) => (
                <tr key={c.row + c.column}>
                  <td>
                    {c.rowName}, {c.name}
                  </td>
                  <td>{c.theirs || <span className="text-ink-2">empty</span>}</td>
                  <td>{c.yours || <span className="text-ink-2">empty</span>}</td>
                  <td className="text-right whitespace-nowrap">
                    <button type="button" className="link" onClick={() => settle([c], false)}>
                      Use theirs
                    </button>
                    <button type="button" className="link ml-3" onClick={() => settle([c], true)}>
                      Use mine
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {clashes.length > 1 && (
            <div className="mt-4 flex gap-4">
              <button type="button" className="act-plain" onClick={() => settle(clashes, false)}>
                Use all {clashes.length} of theirs
              </button>
              <button type="button" className="act-plain" onClick={() => settle(clashes, true)}>
                Use all {clashes.length} of mine
              </button>
            </div>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
