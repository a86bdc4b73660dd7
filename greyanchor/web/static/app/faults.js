// A click on the picture of a print fills in where a fault is marked; the form beside it does the rest.
export function watchFaults(box) {
  if (box.dataset.ready) return;
  box.dataset.ready = "1";
  const picture = box.querySelector("[data-fault-picture]");
  const form = box.querySelector("[data-fault-form]");
  picture.addEventListener("click", (e) => {
    const at = new DOMPoint(e.clientX, e.clientY).matrixTransform(picture.getScreenCTM().inverse());
    const { width, height } = picture.viewBox.baseVal;
    form.elements.across.value = ((100 * at.x) / width).toFixed(1);
    form.elements.along.value = ((100 * at.y) / height).toFixed(1);
    form.elements.kind.focus();
  });
}
