// Sections: the edges are dragged, or moved by arrow keys. Every way ends in the row's field.

const num = (v) => Number(v);
const scaleOf = (svg) => {
  const d = svg.querySelector(".scale").dataset;
  return { left: num(d.left), width: num(d.width), seconds: num(d.seconds), bar: num(d.bar), grid: num(d.grid) };
};

// place writes a time as a person types it: a bar, or bar.beat.hundredths; fine keeps what lies between bars.
function place(t, s, fine) {
  const at = Math.max(0, Math.min(s.seconds, t));
  const beats = ((at - s.grid) / s.bar) * 4;
  if (!fine) return String(Math.max(1, Math.round(beats / 4) + 1));
  const all = Math.max(0, Math.round(beats * 100));
  return `${Math.floor(all / 400) + 1}.${(Math.floor(all / 100) % 4) + 1}.${String(all % 100).padStart(2, "0")}`;
}

const field = (edge) => document.getElementById(`section-from-${edge.dataset.at}`);

function show(edge, t, s, fine) {
  const f = field(edge);
  if (!f) return;
  f.value = place(t, s, fine);
  edge.setAttribute("aria-valuetext", `bar ${f.value}`);
  edge.setAttribute("transform", `translate(${((t - num(edge.dataset.from)) / s.seconds) * s.width} 0)`);
}
const send = (edge) => field(edge)?.dispatchEvent(new Event("change", { bubbles: true }));

let drag = null;
document.addEventListener("pointerdown", (e) => {
  const edge = e.target.closest?.(".section-edge[data-at]");
  if (!edge || e.button !== 0) return;
  e.preventDefault();
  edge.focus();
  drag = { edge, x: e.clientX, moved: false };
});
document.addEventListener("pointermove", (e) => {
  if (!drag) return;
  const svg = drag.edge.ownerSVGElement;
  if (!svg) return; // the picture was drawn anew under the hand
  const s = scaleOf(svg);
  const by = ((e.clientX - drag.x) * svg.viewBox.baseVal.width) / svg.getBoundingClientRect().width;
  if (Math.abs(by) > 1) drag.moved = true;
  show(drag.edge, Math.max(0, num(drag.edge.dataset.from) + (by / s.width) * s.seconds), s, e.shiftKey);
});
document.addEventListener("pointerup", () => {
  if (drag?.moved) send(drag.edge);
  drag = null;
});

let waiting;
document.addEventListener("keydown", (e) => {
  const edge = e.target.closest?.(".section-edge[data-at]");
  if (!edge) return;
  if (e.key === "Delete" || e.key === "Backspace") {
    e.preventDefault();
    document.getElementById(`section-drop-${edge.dataset.at}`)?.click();
    return;
  }
  const by = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[e.key];
  if (!by) return;
  e.preventDefault();
  const s = scaleOf(edge.ownerSVGElement);
  const was = edge.dataset.now === undefined ? num(edge.dataset.from) : num(edge.dataset.now);
  const t = Math.max(0, Math.min(s.seconds, was + by * (e.shiftKey ? s.bar / 4 : s.bar)));
  edge.dataset.now = String(t);
  show(edge, t, s, true);
  clearTimeout(waiting);
  waiting = setTimeout(() => send(edge), 350);
});
