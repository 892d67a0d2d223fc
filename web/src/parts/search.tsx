import { useNavigate } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { api } from "../api/client";

export function Search({ open, onOpenChange }: { open: boolean; onOpenChange: (o: boolean) => void }) {
  const [text, setText] = useState("");
  const [q, setQ] = useState("");
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  useEffect(() => {
    const t = window.setTimeout(() => {
      setQ(text.trim());
      setAt(0);
    }, 180);
    return () => window.clearTimeout(t);
  }, [text]);
  const found = api.useQuery("get", "/search", { params: { query: { q } } }, { enabled: open && q.length > 0 });
  const items = found.data ?? [];
  const go = (path: string) => {
    onOpenChange(false);
    setText("");
    void navigate({ to: path });
  };
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/10" />
        <Dialog.Content
          className="pop fixed top-16 left-1/2 z-50 w-[600px] max-w-[94vw] -translate-x-1/2 p-4"
          aria-describedby={undefined}
        >
          <Dialog.Title className="mb-2 text-xs font-[650] text-ink-2">
            Search sheets, rows, rules, templates and emails
          </Dialog.Title>
          <input
            className="field w-full"
            value={text}
            onChange={(e) => setText(e.target.value)}
            aria-label="Search"
            placeholder="A name, an address, a loan number"
            onKeyDown={(e) => {
              if (e.key === "ArrowDown") setAt((n) => Math.min(n + 1, items.length - 1));
              else if (e.key === "ArrowUp") setAt((n) => Math.max(n - 1, 0));
              else if (e.key === "Enter" && items[at]) go(items[at].path);
              else return;
              e.preventDefault();
            }}
          />
          <ul className="mt-2 max-h-80 overflow-auto" aria-label="Found">
            {items.map((f, i) => (
              <li key={f.path + f.title}>
                <button
                  type="button"
                  className={`flex w-full items-baseline gap-3 rounded-sm px-2 py-1.5 text-left hover:bg-wash ${i === at ? "bg-wash" : ""}`}
                  onClick={() => go(f.path)}
                >
                  <b className="font-semibold">{f.title}</b>
                  <span className="ml-auto text-ink-2">{f.detail}</span>
                </button>
              </li>
            ))}
          </ul>
          {q && found.data?.length === 0 && <p className="mt-2 text-ink-2">Nothing holds “{q}”.</p>}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
