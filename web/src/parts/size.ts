/** A file's size in words, by powers of ten. */
export const size = (n: number) =>
  n < 1000 ? `${n} bytes` : n < 1_000_000 ? `${Math.round(n / 1000)} kB` : `${(n / 1_000_000).toFixed(1)} MB`;
