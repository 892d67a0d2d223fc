// Where the application stands on its server: "" at the root, or a path such as "/nivot" that the
// page names.
export const base =
  typeof document === "undefined" ? "" : (document.querySelector<HTMLMetaElement>("meta[name=base]")?.content ?? "");
