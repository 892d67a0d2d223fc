// A file that is dropped anywhere on a place, to be imported; and what hands it on to the
// page that does so.
import { type ReactNode, useEffect, useRef, useState } from "react";

let handed: File | undefined;
/** Hands a file to the page that opens next. */
export function handOver(file: File): void {
  handed = file;
}
/** Takes the file that was handed over, as the page opens. */
export function useHanded(take: (file: File) => void): void {
  const latest = useRef(take);
  useEffect(() => {
    const file = handed;
    handed = undefined;
    if (file) latest.current(file);
  }, []);
}

const ofRows = /\.(csv|tsv|txt|xlsx)$/i;

/** Takes a file of rows wherever it is dropped, unless something inside has taken it. */
export function DropRows({
  onFile,
  words,
  children,
}: {
  onFile?: (f: File) => void;
  words: string;
  children: ReactNode;
}) {
  const [over, setOver] = useState(false);
  const files = (e: React.DragEvent) => !!onFile && [...e.dataTransfer.types].includes("Files");
  return (
    <div
      className="relative flex min-h-0 flex-1 flex-col"
      onDragOver={(e) => {
        if (!files(e)) return;
        e.preventDefault();
        setOver(!e.isPropagationStopped());
      }}
      onDragLeave={(e) => !e.currentTarget.contains(e.relatedTarget as Node | null) && setOver(false)}
      onDrop={(e) => {
        setOver(false);
        const file = [...e.dataTransfer.files].find((f) => ofRows.test(f.name));
        if (!files(e)) return;
        e.preventDefault();
        if (file) onFile?.(file);
      }}
    >
      {children}
      {over && (
        <p className="pointer-events-none absolute inset-3 z-30 flex items-center justify-center border-2 border-dashed border-juniper bg-paper/90 font-letter text-lg">
          {words}
        </p>
      )}
    </div>
  );
}
