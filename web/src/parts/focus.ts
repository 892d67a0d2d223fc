// Where the focus goes when what was open over a page closes.

/** Keeps where the focus is, and gives what brings it back there; where that is gone, to what is
 * left of the place around it, so that the next Tab goes on from there. */
export function keepFocus(): () => void {
  const around: HTMLElement[] = [];
  for (let e = document.activeElement as HTMLElement | null; e && e !== document.body; e = e.parentElement)
    around.push(e);
  return () => {
    const place = around.find((e) => e.isConnected);
    place?.focus({ preventScroll: place !== around[0] });
    if (!place || document.activeElement === place) return;
    // It does not take the focus by itself.
    place.setAttribute("tabindex", "-1");
    place.focus({ preventScroll: true });
    place.addEventListener("blur", () => place.removeAttribute("tabindex"), { once: true });
  };
}
