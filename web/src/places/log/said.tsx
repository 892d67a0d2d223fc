// What an email said and carried, and whose words they are.
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { base } from "../../api/base";
import type { Schemas } from "../../api/client";
import { LetterFrame } from "../../parts/letter";
import { Scroll } from "../../parts/scroll";
import { size } from "../../parts/size";

export function Said({ html, text, files }: { html: string; text: string; files: Schemas["Carried"][] }) {
  const [plain, setPlain] = useState(false);
  return (
    <div className="pt-2">
      {plain ? (
        <Scroll label="As plain text" className="max-h-72 border border-hair-2 p-3">
          <pre className="font-sans whitespace-pre-wrap">{text}</pre>
        </Scroll>
      ) : (
        <LetterFrame html={html} title="The email as it was written" height={230} />
      )}
      <button type="button" className="link mt-1" onClick={() => setPlain(!plain)}>
        {plain ? "as HTML" : "as plain text"}
      </button>
      {files.length > 0 && (
        <p className="mt-1 flex flex-wrap gap-x-4 text-ink-2">
          With it:
          {files.map((f) => (
            <a key={f.file + f.name} className="link" href={`${base}/api/files/${f.file}`} download={f.name}>
              {f.name} <small className="text-ink-2">{size(f.size)}</small>
            </a>
          ))}
        </p>
      )}
    </div>
  );
}

export function WrittenBy({ by, sheet }: { by: Schemas["WrittenBy"]; sheet: string }) {
  return (
    <p className="text-ink-2">
      in the words of{" "}
      {by.template ? (
        <Link to="/templates/$sheet/$template" params={{ sheet, template: by.template }} className="link">
          {by.name}
        </Link>
      ) : (
        by.name
      )}
      {by.version > 0 ? `, version ${by.version}` : ", which was not saved"}
    </p>
  );
}
