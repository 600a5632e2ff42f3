// The duck editor's hands: points are dragged, moved by arrow keys or typed. Every way ends
// in the same number fields, and the server draws what they say.

import { asked } from "./ask.js";

const bench = () => document.getElementById("duck-bench");
const scale = () => document.querySelector("#duck-editor .scale")?.dataset;
const num = (v) => Number(v);

function field(kind, i) { return document.getElementById(`${kind}-${i}`); }

// place writes a point into its fields, kept between its neighbours.
function place(i, ms, db, isEnd) {
  const points = [...document.querySelectorAll("#duck-editor .point")];
  const before = points[i - 1] ? num(points[i - 1].dataset.ms) + 0.1 : -250;
  const after = points[i + 1] ? num(points[i + 1].dataset.ms) - 0.1 : 2000;
  ms = Math.round(Math.max(before, Math.min(after, ms)) * 10) / 10;
  db = isEnd ? 0 : Math.round(Math.max(-60, Math.min(0, db)) * 10) / 10;
  field("at", i).value = String(ms);
  field("db", i).value = String(db);
  return [ms, db];
}

function moved() { document.getElementById("points")?.dispatchEvent(new Event("points-moved")); }

// --- dragging: the knob follows at once, the sound's figures as fast as the server gives them
let drag = null;
let asking = false;
let again = false;

document.addEventListener("pointerdown", (e) => {
  const point = e.target.closest?.("#duck-editor .point");
  if (!point || e.button !== 0) return;
  e.preventDefault();
  point.focus();
  bench().setPointerCapture(e.pointerId);
  drag = { i: num(point.dataset.i), end: point.dataset.end === "true", moved: false };
});

document.addEventListener("pointermove", (e) => {
  if (!drag || !scale()) return;
  const svg = document.getElementById("duck-editor");
  const r = svg.getBoundingClientRect();
  const s = scale();
  const ratio = num(s.width) / r.width;
  const x = (e.clientX - r.left) * ratio;
  const y = (e.clientY - r.top) * ratio;
  const ms = num(s.from) + ((x - num(s.left)) / (num(s.right) - num(s.left))) * (num(s.to) - num(s.from));
  const db = -((num(s.bottom) - y) / (num(s.bottom) - num(s.top))) * num(s.deep);
  place(drag.i, ms, db, drag.end);
  drag.moved = true;
  drawn();
  requestAnimationFrame(() => { if (drag) preview(); }); // the ear first
});

document.addEventListener("pointerup", () => {
  if (!drag) return;
  const d = drag;
  drag = null;
  if (d.moved) moved();
});

// heard lets the deck play what the hand draws.
function heard(values) { document.dispatchEvent(new CustomEvent("deck-follow", { detail: values })); }
function drawn() {
  const form = document.getElementById("points");
  if (form) heard(new URLSearchParams(new FormData(form)));
}

async function preview() {
  if (asking) { again = true; return; }
  asking = true;
  again = false;
  const body = new URLSearchParams(new FormData(document.getElementById("points")));
  try {
    const res = await fetch(bench().dataset.preview, { method: "POST", body, headers: { "HX-Request": "true" } });
    if (res.status === 200 && drag) {
      const doc = new DOMParser().parseFromString(await res.text(), "text/html");
      const focus = document.activeElement?.id;
      for (const id of ["duck-picture", "duck-strip-holder", "duck-readout"]) {
        const fresh = doc.getElementById(id);
        const old = document.getElementById(id);
        if (fresh && old) old.replaceWith(document.adoptNode(fresh));
      }
      if (focus) document.getElementById(focus)?.focus({ preventScroll: true });
    }
  } catch { /* the next move asks again; letting go stores the curve or says why not */ }
  asking = false;
  if (again && drag) preview();
}

// --- arrow keys: 1 ms and 0.5 dB, Shift a tenth of it
let settling;
document.addEventListener("keydown", (e) => {
  const point = e.target.closest?.("#duck-editor .point");
  if (!point) return;
  const i = num(point.dataset.i);
  const end = point.dataset.end === "true";
  if (e.key === "Delete" || e.key === "Backspace") {
    e.preventDefault();
    const song = document.body.dataset.song;
    asked("POST", `/songs/${song}/duck/remove`, { target: "#sheet", swap: "innerHTML", values: { i, rev: document.getElementById("rev").value } });
    return;
  }
  const fine = e.shiftKey ? 0.1 : 1;
  const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -0.5], ArrowDown: [0, 0.5] }[e.key];
  if (!by) return;
  e.preventDefault();
  const [ms, db] = place(i, num(point.dataset.ms) + by[0] * fine, num(point.dataset.db) + by[1] * (e.shiftKey ? 0.2 : 1), end);
  point.dataset.ms = ms;
  point.dataset.db = db;
  const s = scale();
  const x = num(s.left) + ((ms - num(s.from)) / (num(s.to) - num(s.from))) * (num(s.right) - num(s.left));
  const y = num(s.bottom) + (db / num(s.deep)) * (num(s.bottom) - num(s.top));
  for (const [cls, half] of [["knob", 5], ["reach", 12]]) {
    const rect = point.querySelector(`.${cls}`);
    rect.setAttribute("x", x - half);
    rect.setAttribute("y", y - half);
  }
  drawn();
  clearTimeout(settling);
  settling = setTimeout(moved, 220);
});

// --- what slides sideways in a picture: the target along its trade-off, the handover. It carries where
// it posts to, what a drawing unit is worth and how far a key moves it.
let slide = null;
function slideTo(grip, value) {
  const step = Number(grip.dataset.step);
  value = Math.max(Number(grip.getAttribute("aria-valuemin")), Math.min(Number(grip.getAttribute("aria-valuemax")), value));
  value = Math.round(value / step) * step;
  if (value === Number(grip.getAttribute("aria-valuenow"))) return;
  asked("POST", `/songs/${document.body.dataset.song}${grip.dataset.post}`, {
    target: "#sheet", swap: "innerHTML",
    values: { [grip.dataset.name]: value, depth: document.getElementById("target-depth").value, fit: 1, rev: document.getElementById("rev").value },
  });
}
document.addEventListener("pointerdown", (e) => {
  const grip = e.target.closest(".slide");
  if (!grip || e.button !== 0) return;
  e.preventDefault();
  slide = { grip, x: e.clientX, now: Number(grip.getAttribute("aria-valuenow")) };
});
function slid(e) { // in drawing units
  return ((e.clientX - slide.x) * Number(slide.grip.dataset.width)) / slide.grip.ownerSVGElement.getBoundingClientRect().width;
}
document.addEventListener("pointermove", (e) => {
  if (!slide) return;
  slide.grip.setAttribute("transform", `translate(${slid(e)} 0)`);
  if (slide.grip.dataset.heard) heard(new URLSearchParams({ [slide.grip.dataset.name]: slide.now + slid(e) * Number(slide.grip.dataset.per) }));
});
document.addEventListener("pointerup", (e) => {
  if (!slide) return;
  const { grip, now } = slide;
  const by = slid(e) * Number(grip.dataset.per);
  slide = null;
  if (Math.abs(by) < Number(grip.dataset.step) / 2) {
    document.dispatchEvent(new Event("deck-release"));
    return grip.removeAttribute("transform");
  }
  slideTo(grip, now + by);
});
document.addEventListener("keydown", (e) => {
  const grip = e.target.closest?.(".slide");
  if (!grip || !["ArrowLeft", "ArrowRight"].includes(e.key)) return;
  e.preventDefault();
  slideTo(grip, Number(grip.getAttribute("aria-valuenow")) + (e.key === "ArrowRight" ? 1 : -1) * Number(grip.dataset.step));
});
