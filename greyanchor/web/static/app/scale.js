// Numbers of plots: the frame of a drawing, series read between their points, and limits of a drag.

/** The frame of a plot: where its axes lie in the drawing, and the range of its x axis. */
export function frameOf(svg) {
  const [left, top, width, height, low, high] = JSON.parse(svg.dataset.frame);
  return { left, top, width, height, low, high };
}

/** A number as people write it, with a decimal comma or point; NaN where it is none, or not clear. */
export function parseNumber(text) {
  const plain = String(text).trim().replace("−", "-");
  if (!/^[-+]?(\d+([.,]\d*)?|[.,]\d+)$/.test(plain)) return Number.NaN;
  if (/^[-+]?[1-9]\d{0,2},\d{3}$/.test(plain)) return Number.NaN;
  return Number.parseFloat(plain.replace(",", "."));
}

/** `value` held within `low` and `high`. */
export function within(value, low, high) {
  return Math.min(high, Math.max(low, value));
}

/** The value of a series at `x`, straight between its points and level beyond its ends. */
export function valueAt(xs, ys, x) {
  const falls = xs[0] > xs[xs.length - 1];
  const inputs = falls ? xs.slice().reverse() : xs;
  const values = falls ? ys.slice().reverse() : ys;
  if (x <= inputs[0]) return values[0];
  for (let i = 1; i < inputs.length; i++) {
    if (x > inputs[i]) continue;
    const share = (x - inputs[i - 1]) / (inputs[i] - inputs[i - 1] || 1);
    return values[i - 1] + (values[i] - values[i - 1]) * share;
  }
  return values[values.length - 1];
}

/** Where a value of the x axis lies in the drawing. */
export function toDrawing(frame, value) {
  return frame.left + ((value - frame.low) / (frame.high - frame.low)) * frame.width;
}

/** The value of the x axis under a pointer: `share` of the drawing's width, `viewWidth` units wide. */
export function fromShare(frame, share, viewWidth) {
  return frame.low + ((share * viewWidth - frame.left) / frame.width) * (frame.high - frame.low);
}

/** The value of the x axis under a pointer event. */
export function underPointer(svg, event) {
  const box = svg.getBoundingClientRect();
  const share = (event.clientX - box.left) / box.width;
  return fromShare(frameOf(svg), share, svg.viewBox.baseVal.width);
}
