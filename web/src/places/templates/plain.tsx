// A tree shown as it is, not to be edited here: a piece of text in a letter.
import type { ReactNode } from "react";
import type { Node } from "../../api/client";
import { usePicture } from "../../parts/letter";
import { ownFields } from "./field";

export function Plain({ node: n }: { node: Node }): ReactNode {
  const inner = (n.content ?? []).map((c, i) => <Plain key={i} node={c} />);
  switch (n.type) {
    case "text":
      return (n.marks ?? []).reduce<ReactNode>((text, m) => marked(m.type, text), n.text);
    case "field":
      return <span className="chip">{ownFields.find((o) => o.of === n.attrs?.["of"])?.name ?? "field"}</span>;
    case "hardBreak":
      return <br />;
    case "divider":
      return <hr />;
    case "heading":
      return <h3>{inner}</h3>;
    case "bulletList":
      return <ul>{inner}</ul>;
    case "orderedList":
      return <ol>{inner}</ol>;
    case "listItem":
      return <li>{inner}</li>;
    case "quote":
      return <blockquote>{inner}</blockquote>;
    case "table":
      return (
        <table>
          <tbody>{inner}</tbody>
        </table>
      );
    case "tableRow":
      return <tr>{inner}</tr>;
    case "tableHeader":
      return <th>{inner}</th>;
    case "tableCell":
      return <td>{inner}</td>;
    case "button":
      return <div className="letter-button">{inner}</div>;
    case "image":
      return <Picture file={(n.attrs?.["file"] as string | undefined) ?? ""} />;
    case "paragraph":
      return <p>{inner}</p>;
  }
  return <>{inner}</>;
}

function Picture({ file }: { file: string }) {
  const url = usePicture(file);
  return url ? <img src={url} alt="" className="max-w-full" /> : null;
}

function marked(type: string, text: ReactNode): ReactNode {
  switch (type) {
    case "bold":
      return <strong>{text}</strong>;
    case "italic":
      return <em>{text}</em>;
    case "underline":
      return <u>{text}</u>;
    case "link":
      return <span className="text-juniper underline">{text}</span>;
  }
  return text;
}
