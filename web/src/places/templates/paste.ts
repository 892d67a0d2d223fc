// What other programs put on the clipboard, brought to what a letter knows. What it does not know
// the editor drops by itself.

// Word processors write the points of a list as paragraphs, each with its sign as text.
const isPoint = (el: Element) => el.tagName === "P" && /mso-list:\s*l\d/i.test(el.getAttribute("style") ?? "");
const sign = (el: Element) => el.querySelector("[style*='mso-list:Ignore' i], [style*='mso-list: Ignore' i]");

/** Makes lists of the paragraphs that stand for them, and a colour of a block one of its words. */
export function cleanPasted(html: string): string {
  if (/^\s*(<meta[^>]*>\s*)*<(thead|tbody|tr|td|th)\b/i.test(html)) return html; // a part of a table stands in no page
  const doc = new DOMParser().parseFromString(html, "text/html");
  for (const el of doc.querySelectorAll("p, li, td, th, h1, h2, h3, h4, h5, h6, div")) {
    const colour = (el as HTMLElement).style.color;
    if (!colour || el.querySelector("p, div, table, ul, ol")) continue;
    const span = doc.createElement("span");
    span.style.color = colour;
    span.append(...el.childNodes);
    el.append(span);
  }
  let list: Element | undefined;
  for (const p of [...doc.querySelectorAll("p")]) {
    if (!isPoint(p)) continue;
    const its = sign(p);
    const tag = /[\p{L}\p{N}]/u.test(its?.textContent ?? "") ? "ol" : "ul";
    its?.remove();
    if (list?.tagName.toLowerCase() !== tag || p.previousElementSibling !== list) {
      list = doc.createElement(tag);
      p.before(list);
    }
    const item = doc.createElement("li");
    item.append(...p.childNodes);
    list.append(item);
    p.remove();
  }
  return doc.body.innerHTML;
}
