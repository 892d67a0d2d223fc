// A random id of 96 bits; crypto.randomUUID is there over https alone.
export function randomId(): string {
  return Array.from(crypto.getRandomValues(new Uint8Array(12)), (b) => b.toString(16).padStart(2, "0")).join("");
}
