// Print: what would be heard follows the form, and the loudness asked is dragged on its curve, or moved by arrow keys.

const form = () => document.getElementById("solve-form");

// tries is what Hear it plays: what the form says now.
function tries() {
  const f = form();
  if (!f) return;
  const d = new FormData(f);
  document.getElementById("print-hear").dataset.try = `print/solve:${d.get("school")}:${d.get("lufs")}:${d.get("ceiling")}`;
}
document.addEventListener("input", (e) => { if (e.target.closest("#solve-form")) tries(); });
document.addEventListener("change", (e) => { if (e.target.closest("#solve-form")) tries(); });
document.addEventListener("htmx:afterSettle", tries);
tries();

const rounded = (v) => Math.round(v * 10) / 10;
function ask(lufs, knob) {
  const d = knob.dataset;
  const v = rounded(Math.max(Number(d.lo), Math.min(Number(d.hi), lufs)));
  const field = document.getElementById("print-lufs");
  field.value = String(v);
  knob.setAttribute("x", Number(d.left) + ((v - d.lo) / (d.hi - d.lo)) * d.width - 5);
  knob.setAttribute("aria-valuenow", String(v));
  field.dispatchEvent(new Event("input", { bubbles: true }));
}

let drag = null;
document.addEventListener("pointerdown", (e) => {
  const knob = e.target.closest?.("#cost-knob");
  if (!knob || e.button !== 0) return;
  e.preventDefault();
  knob.focus();
  drag = knob;
});
document.addEventListener("pointermove", (e) => {
  if (!drag) return;
  const svg = drag.ownerSVGElement;
  const r = svg.getBoundingClientRect();
  const d = drag.dataset;
  const x = ((e.clientX - r.left) * svg.viewBox.baseVal.width) / r.width;
  ask(Number(d.lo) + ((x - d.left) / d.width) * (d.hi - d.lo), drag);
});
document.addEventListener("pointerup", () => {
  if (drag) document.getElementById("print-solve").click();
  drag = null;
});
document.addEventListener("keydown", (e) => {
  const knob = e.target.closest?.("#cost-knob");
  const by = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[e.key];
  if (!knob) return;
  if (e.key === "Enter") return document.getElementById("print-solve").click();
  if (!by) return;
  e.preventDefault();
  ask(Number(knob.getAttribute("aria-valuenow")) + by * (e.shiftKey ? 0.1 : 0.5), knob);
});
