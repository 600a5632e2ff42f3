// Edges: the brackets of a corner are dragged, or moved by arrow keys. Every way ends in the same field.

const num = (v) => Number(v);
const rounded = (hz) => (hz < 100 ? Math.round(hz * 10) / 10 : hz < 1000 ? Math.round(hz) : Math.round(hz / 10) * 10);

// settle types a corner into the edge's field and sends it.
function settle(edge, hz) {
  const lo = edge.dataset.side === "low" ? 20 : 200;
  const hi = edge.dataset.side === "low" ? 2000 : 20000;
  const field = document.getElementById(`${edge.dataset.side}-${edge.dataset.stem}`);
  field.value = String(rounded(Math.max(lo, Math.min(hi, hz))));
  field.dispatchEvent(new Event("change", { bubbles: true }));
}

let drag = null;
document.addEventListener("pointerdown", (e) => {
  const edge = e.target.closest?.(".edge");
  if (!edge || e.button !== 0) return;
  e.preventDefault();
  edge.focus();
  drag = { edge, x: e.clientX, hz: num(edge.dataset.hz), moved: false };
});

// at is the corner under the pointer.
function at(e) {
  const d = drag.edge.dataset;
  const svg = drag.edge.ownerSVGElement;
  const wide = (svg.getBoundingClientRect().width * num(d.width)) / svg.viewBox.baseVal.width;
  return drag.hz * (num(d.hi) / num(d.lo)) ** ((e.clientX - drag.x) / wide);
}

document.addEventListener("pointermove", (e) => {
  if (!drag) return;
  const svg = drag.edge.ownerSVGElement;
  const ratio = svg.viewBox.baseVal.width / svg.getBoundingClientRect().width;
  drag.edge.setAttribute("transform", `translate(${(e.clientX - drag.x) * ratio} 0)`);
  document.getElementById(`${drag.edge.dataset.side}-${drag.edge.dataset.stem}`).value = String(rounded(at(e)));
  drag.moved = true;
});

document.addEventListener("pointerup", (e) => {
  if (!drag) return;
  if (drag.moved) settle(drag.edge, at(e));
  drag = null;
});

let waiting;
document.addEventListener("keydown", (e) => {
  const edge = e.target.closest?.(".edge");
  if (!edge) return;
  const by = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[e.key];
  if (e.key === "Delete" || e.key === "Backspace") {
    e.preventDefault();
    const field = document.getElementById(`${edge.dataset.side}-${edge.dataset.stem}`);
    field.value = "";
    field.dispatchEvent(new Event("change", { bubbles: true }));
    return;
  }
  if (!by) return;
  e.preventDefault();
  const was = num(edge.dataset.hz);
  const hz = was * 2 ** (by / (e.shiftKey ? 48 : 12)); // a semitone, Shift a quarter of it
  edge.dataset.hz = String(hz);
  const d = edge.dataset;
  const px = (Math.log(hz / was) / Math.log(num(d.hi) / num(d.lo))) * num(d.width);
  const now = Number(/translate\(([-\d.e]+)/.exec(edge.getAttribute("transform") ?? "")?.[1] ?? 0) + px;
  edge.setAttribute("transform", `translate(${now} 0)`);
  document.getElementById(`${d.side}-${d.stem}`).value = String(rounded(hz));
  clearTimeout(waiting);
  waiting = setTimeout(() => settle(edge, num(edge.dataset.hz)), 350);
});

// Chains that are open stay open.
const opened = new Set();
document.addEventListener("toggle", (e) => {
  const at = e.target.closest?.("details.chain-of")?.dataset.at;
  if (!at) return;
  if (e.target.open) opened.add(at);
  else if (e.target.isConnected) opened.delete(at);
}, true);
document.addEventListener("htmx:afterSettle", () => {
  for (const at of opened) document.querySelector(`details.chain-of[data-at="${CSS.escape(at)}"]`)?.setAttribute("open", "");
});
