// The email as HTML, for those who want it: written over, cleaned, and taken as the letter.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { http, type Node, take } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";

type Props = { sheet: string; body: Node; may: boolean; onBody: (n: Node) => void };

export function Source({ sheet, body, may, onBody }: Props) {
  const convert = (ask: { html?: string; body?: Node }) =>
    http.POST("/sheets/{sheet}/html", { params: { path: { sheet } }, body: ask });
  const now = useQuery({ queryKey: keys.html(sheet, body), queryFn: () => take(convert({ body })) });
  const [text, setText] = useState<string>();
  const [removed, setRemoved] = useState<string[]>();
  const use = useWrite<string, { html: string; body: Node; removed: string[] }>({
    write: (html) => convert({ html }),
    after: (got) => {
      setRemoved(got.removed);
      setText(undefined);
      onBody(got.body);
    },
    quiet: true,
  });
  const shown = text ?? now.data?.html ?? "";
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <textarea
        aria-label="The email as HTML"
        className="field min-h-0 w-full flex-1 resize-none font-mono text-xs leading-5"
        spellCheck={false}
        readOnly={!may}
        value={shown}
        onChange={(e) => {
          setText(e.target.value);
          setRemoved(undefined);
        }}
      />
      <div className="flex flex-wrap items-baseline gap-4 py-2">
        {may && (
          <button
            type="button"
            className="act"
            disabled={text === undefined || text === now.data?.html || use.busy}
            onClick={() => void use.do(shown)}
          >
            Use it
          </button>
        )}
        <span role="status" className="text-ink-2">
          {removed === undefined
            ? "Fields stand in square brackets. What email programs do not show alike is removed."
            : removed.length === 0
              ? "It is the email now; nothing was removed."
              : `It is the email now. Removed: ${removed.join(", ")}.`}
        </span>
        <span role="alert" className="text-brick">
          {use.failed?.title}
        </span>
      </div>
    </div>
  );
}
