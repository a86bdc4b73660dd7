// The light of the room, set before anything is drawn; without a choice it follows the computer.
(() => {
  const KEY = "theme";
  const root = document.documentElement;
  const dark = matchMedia("(prefers-color-scheme: dark)");

  function show() {
    const chosen = localStorage.getItem(KEY);
    root.dataset.theme = chosen || (dark.matches ? "dim" : "light");
    root.dataset.bsTheme = root.dataset.theme === "dim" ? "dark" : "light";
  }

  show();
  dark.addEventListener("change", show);
  addEventListener("storage", show);
  document.addEventListener("DOMContentLoaded", () => {
    const box = document.getElementById("light");
    if (!box) return;
    const chosen = localStorage.getItem(KEY) ?? "";
    for (const choice of box.querySelectorAll("input")) choice.checked = choice.value === chosen;
    box.addEventListener("change", (event) => {
      if (event.target.value) localStorage.setItem(KEY, event.target.value);
      else localStorage.removeItem(KEY);
      show();
    });
  });
})();
