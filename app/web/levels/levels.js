// The pink noise that parts are set against.

document.addEventListener("click", (e) => {
  const noise = e.target.closest("[data-noise]");
  if (noise) document.dispatchEvent(new CustomEvent("deck-noise", { detail: { url: noise.dataset.noise, button: noise } }));
});
