// The public form's script: before it sends, the browser spends a moment on a proof, which
// makes sending by the thousand cost something. Without the script the form works as well, for
// a few answers. The server's side is api/intake.go.
import { sha256 } from "@noble/hashes/sha2.js";
import { utf8ToBytes } from "@noble/hashes/utils.js";

function leadingZeros(sum: Uint8Array): number {
  let n = 0;
  for (const b of sum) {
    if (b !== 0) return n + Math.clz32(b) - 24;
    n += 8;
  }
  return n;
}

// Looks for a number some thousands at a time, so that the page stays alive.
async function proof(address: string, stamp: string, bits: number): Promise<string> {
  for (let n = Math.floor(Math.random() * 2 ** 40); ; n++) {
    if (leadingZeros(sha256(utf8ToBytes(`${address}.${stamp}.${n}`))) >= bits) return String(n);
    if (n % 2000 === 0) await new Promise((rest) => setTimeout(rest));
  }
}

const form = document.querySelector<HTMLFormElement>("form[data-proof]");
const field = (name: string) => form?.querySelector<HTMLInputElement>(`input[name=${name}]`);
form?.addEventListener("submit", (e) => {
  const [stamp, shown] = [field("stamp"), field("proof")];
  if (!stamp || !shown || shown.value) return;
  e.preventDefault();
  const button = form.querySelector("button");
  if (button) button.disabled = true;
  stamp.value = String(Math.floor(Date.now() / 1000));
  void proof(form.dataset.proof ?? "", stamp.value, Number(form.dataset.bits)).then((found) => {
    shown.value = found;
    form.submit();
  });
});
