// Ears: two sounds that run from the same instant on, of which one is heard; nothing here knows which is which. They are
// played by the deck's level. The stretch of a finished track is dragged on its own overview.

const $ = (id) => document.getElementById(id);
const FADE = 0.008; // s, from one sound to the other
const pair = { context: null, level: null, sounds: [], at: "", on: -1 };

let used = ""; // the panel that a hand used last: a blind test and a drill may both be open
const panel = () => (used && $(used)) || document.querySelector("#blind, #drill");
function says(text) { const el = panel()?.querySelector(".pair-state"); if (el) el.textContent = text; }
const gain = () => 10 ** (Number($("deck-level").value) / 20);

function silence() {
  const now = pair.context?.currentTime ?? 0;
  for (const s of pair.sounds) {
    s.gain.gain.cancelScheduledValues(now);
    s.gain.gain.setTargetAtTime(0, now, 0.01);
    s.source.stop(now + 0.08);
  }
  pair.sounds = [];
  pair.at = "";
  pair.on = -1;
}

async function fetched(url) {
  const res = await fetch(url);
  if (!res.ok) throw new Error(`the server answered ${res.status}`);
  return pair.context.decodeAudioData(await res.arrayBuffer());
}

// begin brings both sounds, and lets them run together.
async function begin(el) {
  pair.context ??= new AudioContext({ sampleRate: Number($("deck-data").dataset.rate) });
  if (!pair.level) {
    pair.level = pair.context.createGain();
    pair.level.connect(pair.context.destination);
  }
  await pair.context.resume();
  pair.level.gain.value = gain();
  says("bringing both …");
  const at = el.dataset.first;
  const both = await Promise.all([fetched(el.dataset.first), fetched(el.dataset.second)]);
  if (panel()?.dataset.first !== at) return false;
  silence();
  const when = pair.context.currentTime + 0.03;
  pair.sounds = both.map((buffer) => {
    const source = pair.context.createBufferSource();
    const g = pair.context.createGain();
    source.buffer = buffer;
    source.loop = true;
    g.gain.value = 0;
    source.connect(g).connect(pair.level);
    source.start(when);
    return { source, gain: g };
  });
  pair.at = at;
  says("");
  return true;
}

async function hear(which) {
  const el = panel();
  if (!el) return;
  if (!localStorage.getItem("care-read")) return $("care-dialog").showModal();
  if ($("deck").dataset.state === "playing") $("play").click(); // one thing sounds at a time
  try {
    if (pair.at !== el.dataset.first && !(await begin(el))) return;
  } catch (err) {
    return says(`That could not be played: ${err.message}.`);
  }
  const now = pair.context.currentTime;
  pair.on = which;
  pair.sounds.forEach((s, i) => {
    s.gain.gain.cancelScheduledValues(now);
    s.gain.gain.setValueAtTime(s.gain.gain.value, now);
    s.gain.gain.linearRampToValueAtTime(i === which ? 1 : 0, now + FADE);
  });
  for (const b of document.querySelectorAll("[data-pair]")) {
    const on = el.contains(b) && Number(b.dataset.pair) === which;
    b.classList.toggle("fill", on);
    b.setAttribute("aria-pressed", String(on));
  }
}

document.addEventListener("click", (e) => {
  const b = e.target.closest("[data-pair]");
  if (b) {
    used = b.closest("#blind, #drill").id;
    hear(Number(b.dataset.pair));
  }
  if (e.target.closest("#play")) silence();
});

document.addEventListener("input", (e) => {
  if (e.target.id === "deck-level" && pair.level) pair.level.gain.setTargetAtTime(gain(), pair.context.currentTime, 0.02);
});

// answers by keys, while a question is open: the answers in their order
const press = (n) => panel().querySelectorAll("button[name=answer]")[n]?.click();
document.addEventListener("keydown", (e) => {
  if (!panel() || e.ctrlKey || e.metaKey || e.altKey || document.querySelector("dialog[open]") || e.target.closest?.("input, textarea, select, [role=slider]")) return;
  const act = { ArrowLeft: () => hear(0), ArrowRight: () => hear(1), j: () => press(0), k: () => press(1), l: () => press(2) }[e.key];
  if (!act) return;
  e.preventDefault();
  act();
});

// a trial that was answered sounds no more; the next is played when it is asked for
document.addEventListener("htmx:afterSettle", () => {
  if (pair.at && panel()?.dataset.first !== pair.at) silence();
});
addEventListener("pagehide", silence);

// --- the stretch of a finished track
let drag = null;
function timeAt(svg, e) {
  const r = svg.getBoundingClientRect();
  const d = svg.querySelector(".scale").dataset;
  const x = ((e.clientX - r.left) / r.width) * Number(d.width);
  return Math.max(0, Math.min(Number(d.seconds), ((x - 2) / (Number(d.width) - 4)) * Number(d.seconds)));
}
document.addEventListener("pointerdown", (e) => {
  const svg = e.target.closest?.("#stretch");
  if (!svg || e.button !== 0) return;
  e.preventDefault(); // no text is marked
  drag = { svg, from: timeAt(svg, e), x: e.clientX };
});
document.addEventListener("pointermove", (e) => {
  if (!drag || Math.abs(e.clientX - drag.x) < 4) return;
  const [a, b] = [drag.from, timeAt(drag.svg, e)].sort((p, q) => p - q);
  const d = drag.svg.querySelector(".scale").dataset;
  const x = (t) => 2 + (t / Number(d.seconds)) * (Number(d.width) - 4);
  const rect = drag.svg.querySelector(".loop");
  rect.setAttribute("x", x(a));
  rect.setAttribute("width", Math.max(1, x(b) - x(a)));
  drag.to = [a, b];
});
document.addEventListener("pointerup", () => {
  const d = drag;
  drag = null;
  if (!d?.to) return;
  $("stretch-from").value = d.to[0].toFixed(1);
  $("stretch-to").value = d.to[1].toFixed(1);
  $("stretch-to").dispatchEvent(new Event("change", { bubbles: true }));
});
