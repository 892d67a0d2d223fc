import { useState } from "react";

// Chooses a file of rows, or takes a table that was copied in another program.
export function RowsFile({ onFile }: { onFile: (f: File) => void }) {
  const [pasted, setPasted] = useState("");
  return (
    <div className="flex flex-wrap items-center gap-3">
      <input
        type="file"
        accept=".csv,.tsv,.txt,.xlsx,text/csv,application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
        aria-label="File of rows"
        onChange={(e) => {
          const f = e.target.files?.[0];
          setPasted("");
          if (f) onFile(f);
        }}
      />
      <span className="text-ink-2">or</span>
      <textarea
        rows={1}
        className="field h-[30px] w-64 resize-none overflow-hidden"
        aria-label="A table pasted from another program"
        placeholder="paste a table here"
        value={pasted}
        onChange={() => {}}
        onPaste={(e) => {
          e.preventDefault();
          const text = e.clipboardData.getData("text/plain");
          if (!text.trim()) return;
          setPasted(`${text.split("\n").length.toLocaleString("en-GB")} lines pasted`);
          onFile(new File([text], "Pasted table.tsv", { type: "text/tab-separated-values" }));
        }}
      />
    </div>
  );
}
