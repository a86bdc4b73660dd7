// Letters in pictures stay readable: where a picture is drawn small, its letters are drawn larger in it.

const MOST = 2;

/** How much larger letters are drawn so that they come out at their own size: never smaller. */
export function enlargement(viewWidth, shownWidth) {
  return shownWidth > 0 ? Math.min(MOST, Math.max(1, viewWidth / shownWidth)) : 1;
}

const observer =
  typeof ResizeObserver === "undefined"
    ? null
    : new ResizeObserver((entries) => {
        for (const { target, contentRect } of entries) {
          const k = enlargement(target.viewBox.baseVal.width, contentRect.width);
          target.style.setProperty("--k", k.toFixed(3));
        }
      });

export function keepReadable(svg) {
  observer?.observe(svg);
}
