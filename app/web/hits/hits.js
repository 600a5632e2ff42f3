// Hits by hand: the line of hits on Pocket and Duck, its sliders, and the menu of a hit. What a hand does
// ends as a post of the hit's time; the server knows what is there.

import { asked } from "./ask.js";

const song = () => document.body.dataset.song;
const rev = () => document.getElementById("rev").value;
const line = () => document.getElementById("hitline");
let zoom = 1; // kept over swaps
let scrolled = 0;

// --- time on the line
function scaleOf() {
  const s = line()?.querySelector(".timescale")?.dataset;
  return s && Object.fromEntries(Object.entries(s).map(([k, v]) => [k, Number(v)]));
}
function timeAt(e) {
  const s = scaleOf();
  const r = line().getBoundingClientRect();
  const x = ((e.clientX - r.left) * s.width) / r.width;
  return s.from + ((x - s.left) / (s.right - s.left)) * (s.to - s.from);
}
function xOf(t) {
  const s = scaleOf();
  return s.left + ((t - s.from) / (s.to - s.from)) * (s.right - s.left);
}

// --- zoom
function ask(values = {}) {
  const q = new URLSearchParams({ zoom, ...values });
  return asked("GET", `/songs/${song()}/hits/line?${q}`, { source: "#handhits", target: "#handhits", swap: "innerHTML" });
}
function zoomTo(to, around) {
  if (!to) return;
  const box = document.getElementById("hitline-scroll");
  const at = around ?? box.clientWidth / 2;
  scrolled = Math.max(0, ((box.scrollLeft + at) * to) / zoom - at);
  zoom = to;
  ask();
}
document.addEventListener("click", (e) => {
  const button = e.target.closest?.("[data-zoom]");
  if (button?.matches("button")) zoomTo(Number(button.dataset.zoom));
});
document.addEventListener("wheel", (e) => {
  const box = e.target.closest?.("#hitline-scroll");
  if (!box || !e.ctrlKey) return;
  e.preventDefault();
  const button = document.getElementById(e.deltaY < 0 ? "zoom-in" : "zoom-out");
  if (!button.disabled) zoomTo(Number(button.dataset.zoom), e.clientX - box.getBoundingClientRect().left);
}, { passive: false });
document.addEventListener("scroll", (e) => {
  if (e.target.id === "hitline-scroll") scrolled = e.target.scrollLeft;
}, true);
document.addEventListener("htmx:configRequest", (e) => {
  if (e.detail.elt.id === "handhits" && e.detail.verb === "get" && !("zoom" in e.detail.parameters)) e.detail.parameters.zoom = zoom;
});
document.addEventListener("htmx:afterSwap", () => {
  const box = document.getElementById("hitline-scroll");
  if (!box) return;
  const was = scrolled;
  if (Math.abs(box.scrollLeft - was) > 1) box.scrollLeft = was;
});

// --- sliders: the count and the marks follow while they move
let later;
document.addEventListener("input", (e) => {
  const form = e.target.closest?.("#listening");
  if (!form) return;
  const unit = { sense: " %", quiet: " dB under", gap: " ms" }[e.target.name];
  e.target.parentElement.querySelector("output").textContent = e.target.value + unit;
  clearTimeout(later);
  later = setTimeout(async () => {
    const q = new URLSearchParams(new FormData(form));
    q.set("zoom", zoom);
    const res = await fetch(`/songs/${song()}/hits/line?${q}`, { headers: { "HX-Request": "true", "HX-Current-URL": location.href } });
    if (res.status !== 200 || !form.isConnected) return;
    const doc = new DOMParser().parseFromString(await res.text(), "text/html");
    document.getElementById("hit-count").innerHTML = doc.getElementById("hit-count").innerHTML;
    const fresh = document.adoptNode(doc.getElementById("hitline"));
    line().replaceWith(fresh);
  }, 60);
});

// --- the menu of a hit
function openMenu(at, x, y) {
  const menu = document.querySelector(".hitmenu"); // without an id: what is set on its style must not be kept over a swap
  if (!menu) return;
  asked("GET", `/songs/${song()}/hits/menu?at=${at}`, { source: ".hitmenu", target: ".hitmenu", swap: "innerHTML" }).then(() => {
    if (!menu.firstElementChild) return;
    menu.showPopover?.();
    menu.style.left = `${Math.max(8, Math.min(x, innerWidth - menu.offsetWidth - 8))}px`;
    menu.style.top = `${Math.max(8, Math.min(y + 8, innerHeight - menu.offsetHeight - 8))}px`;
    menu.querySelector("button")?.focus();
  });
}
document.addEventListener("click", (e) => {
  const cell = e.target.closest?.(".plot .hit");
  if (cell) openMenu(cell.dataset.at, e.clientX, e.clientY);
  const menu = e.target.closest?.(".hitmenu button")?.closest(".hitmenu");
  if (menu) setTimeout(() => menu.isConnected && menu.hidePopover?.()); // when its form is on its way
});

// --- marks: drag to move, click for the menu; a click on a gap puts a hit in
let drag = null;
document.addEventListener("pointerdown", (e) => {
  const svg = e.target.closest?.("#hitline");
  if (!svg || e.button !== 0) return;
  const mark = e.target.closest(".hitline-mark");
  drag = { mark, x: e.clientX, y: e.clientY, at: mark ? Number(mark.dataset.at) : timeAt(e), moved: false };
  if (mark) {
    e.preventDefault();
    mark.focus({ preventScroll: true });
  }
});
document.addEventListener("pointermove", (e) => {
  if (!drag?.mark || Math.abs(e.clientX - drag.x) < 3 && !drag.moved) return;
  drag.moved = true;
  drag.to = drag.at + timeAt(e) - timeAt({ clientX: drag.x });
  drag.mark.setAttribute("transform", `translate(${xOf(drag.to) - xOf(drag.at)} 0)`);
});
document.addEventListener("pointerup", (e) => {
  if (!drag) return;
  const d = drag;
  drag = null;
  if (d.mark && d.moved) return edit({ do: "move", at: seconds(d.at), to: seconds(d.to) });
  if (d.mark) return openMenu(d.at, e.clientX, e.clientY);
  if (Math.abs(e.clientX - d.x) < 4 && Math.abs(e.clientY - d.y) < 4) edit({ do: "put", at: seconds(d.at), exact: e.shiftKey ? "1" : "" });
});
function seconds(t) { return `${Math.max(0, t).toFixed(6)} s`; }
function edit(values) {
  return asked("POST", `/songs/${song()}/hits/edit`, { target: "#sheet", swap: "innerHTML", values: { ...values, rev: rev() } });
}

// --- keys on a mark: arrows move it, Enter opens its menu, Delete leaves it out
let keyed = null;
document.addEventListener("keydown", (e) => {
  const mark = e.target.closest?.(".hitline-mark");
  if (!mark) return;
  const at = Number(mark.dataset.at);
  if (e.key === "Enter" || e.key === " ") {
    e.preventDefault();
    e.stopPropagation();
    const r = mark.getBoundingClientRect();
    return openMenu(at, r.x + r.width / 2, r.y + 10);
  }
  if (e.key === "Delete" || e.key === "Backspace") {
    e.preventDefault();
    return edit({ do: "one", at: seconds(at) });
  }
  const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
  if (!by) return;
  e.preventDefault();
  if (keyed?.mark !== mark) keyed = { mark, to: at };
  keyed.to += by * (e.shiftKey ? 0.01 : 0.001);
  mark.setAttribute("transform", `translate(${xOf(keyed.to) - xOf(at)} 0)`);
  clearTimeout(keyed.timer);
  keyed.timer = setTimeout(() => {
    edit({ do: "move", at: seconds(at), to: seconds(keyed.to) });
    keyed = null;
  }, 400);
}, true);
