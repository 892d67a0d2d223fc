// Puts a text on the clipboard. Browsers give pages the clipboard itself over
// https and on this machine alone; elsewhere a field is copied from.
export async function copyText(text: string): Promise<void> {
  if (navigator.clipboard) return navigator.clipboard.writeText(text);
  const field = document.createElement("textarea");
  field.value = text;
  document.body.append(field);
  field.select();
  document.execCommand("copy");
  field.remove();
}
