import { useEffect, useRef, useState } from "react";
import { upload, words } from "../../api/client";
import type { Choice, Guess, Preview } from "./filecolumns";

/** Which part of a file is the table, and how a text is read; "" for what is found. */
export type FilePart = { worksheet: string; heading: string; separator: string; encoding: string };
const found: FilePart = { worksheet: "", heading: "", separator: "", encoding: "" };

const shapeOf = (choices: Choice[]) => choices.map((c) => c.type + (c.order ?? "") + (c.to ?? "")).join();

// A file of rows that is being looked at: what was found in it, what a person
// chose, and how the chosen types fit. Nothing is written.
export function useFile(sheet: string | undefined, locale: string) {
  const [file, setFile] = useState<File>();
  const [preview, setPreview] = useState<Preview>();
  const [guesses, setGuesses] = useState<Guess[]>([]);
  const [choices, setChoices] = useState<Choice[]>([]);
  const [answered, setAnswered] = useState<Record<number, boolean>>({});
  const [part, setPart] = useState(found);
  const [error, setError] = useState("");
  const [busy, setBusy] = useState(false);
  const measured = useRef("");

  const look = async (f: File, p = found, l = locale) => {
    setFile(f);
    setPart(p);
    setError("");
    setBusy(true);
    try {
      const got = await upload<Preview>("/imports", { locale: l, ...p, ...(sheet ? { sheet } : {}), file: f });
      setPreview(got);
      setGuesses(got.columns);
      const taken = got.columns.map((c) => ({
        name: c.name,
        type: c.type,
        order: c.order,
        format: c.format,
        skip: false,
        ...(sheet ? { to: c.to ?? "" } : {}),
      }));
      measured.current = shapeOf(taken); // the look has measured these
      setChoices(taken);
      setAnswered({});
      return got;
    } catch (e) {
      setPreview(undefined);
      setError(words(e));
    } finally {
      setBusy(false);
    }
  };
  // Measured anew when a type, order or target changes, not at each letter of a name.
  const shape = shapeOf(choices);
  useEffect(() => {
    if (!file || choices.length === 0 || shape === measured.current) return;
    measured.current = shape;
    const t = window.setTimeout(async () => {
      try {
        const spec = JSON.stringify({
          name: "unnamed",
          zone: "UTC",
          locale,
          key: -1,
          address: -1,
          columns: choices.map((c) => ({ ...c, name: c.name || "unnamed" })),
        });
        const fits = await upload<Guess[]>("/imports/measure", { spec, ...part, ...(sheet ? { sheet } : {}), file });
        setGuesses((old) => fits.map((m, i) => ({ ...m, askDay: old[i]?.askDay ?? false })));
      } catch (e) {
        setError(words(e));
      }
    }, 200);
    return () => window.clearTimeout(t);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- see above
  }, [shape, file]);
  const put = (i: number, c: Partial<Choice>) =>
    setChoices((list) => list.map((x, k) => (k === i ? { ...x, ...c } : x)));
  const answer = (i: number) => setAnswered((a) => ({ ...a, [i]: true }));
  return { file, preview, guesses, choices, answered, part, error, busy, look, put, answer, setError };
}
