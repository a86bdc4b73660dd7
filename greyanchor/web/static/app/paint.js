// Colours and lengths that the server computed: data-style="background: #777" becomes a style of the element.
// Pages may hold no styles of their own (Content Security Policy); scripts may set them.
(() => {
  function paint(element) {
    for (const part of element.dataset.style.split(";")) {
      const at = part.indexOf(":");
      if (at > 0) element.style.setProperty(part.slice(0, at).trim(), part.slice(at + 1).trim());
    }
  }

  function paintAll(node) {
    if (node.nodeType !== Node.ELEMENT_NODE) return;
    if (node.dataset.style) paint(node);
    for (const element of node.querySelectorAll("[data-style]")) paint(element);
  }

  new MutationObserver((changes) => {
    for (const change of changes) {
      if (change.type === "attributes") paintAll(change.target);
      else for (const node of change.addedNodes) paintAll(node);
    }
  }).observe(document, {
    subtree: true,
    childList: true,
    attributes: true,
    attributeFilter: ["data-style"],
  });
})();
