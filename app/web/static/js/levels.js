// Copying a plan or a move's values, and the pink noise that parts are set against.

document.addEventListener("click", async (e) => {
  const copy = e.target.closest("[data-copy]");
  if (copy) {
    const table = document.getElementById(copy.dataset.copy);
    try {
      await navigator.clipboard.writeText(table.value);
      copy.textContent = "Copied";
    } catch { // no leave to write there: the table is opened and chosen, to be copied by hand
      table.closest("details").open = true;
      table.focus();
      table.select();
      copy.textContent = "Press Ctrl C";
    }
  }
  const values = e.target.closest("[data-values]");
  if (values) { // general terms, to be set by hand elsewhere
    try {
      await navigator.clipboard.writeText(values.dataset.values);
      values.textContent = "Copied";
    } catch {
      values.textContent = values.dataset.values;
    }
  }
  const noise = e.target.closest("[data-noise]");
  if (noise) document.dispatchEvent(new CustomEvent("deck-noise", { detail: { url: noise.dataset.noise, button: noise } }));
});
