// The deck: plays the loop that the server rendered. Both sides run at once from the same
// instant and only their gains change, so switching is sample-aligned and without a gap.

const FADE = 0.008; // s, switch between the sides
const RAMP = 0.25; // s, from silence at the start

const $ = (id) => document.getElementById(id);
let noise = null; // pink noise beside the loop
const decks = { context: null, level: null, sides: {}, started: 0, playing: false, side: "after", token: 0 };

const data = () => $("deck-data").dataset;
const length = () => Number(data().to) - Number(data().from);

function state(text) { const el = $("deck-state"); if (el) el.textContent = text; }

function levelGain() { return 10 ** (Number($("deck-level").value) / 20); }

// gains of the two sides: the chosen one sounds, After turned by the match.
function sideGain(side) {
  if (side !== decks.side) return 0;
  const offset = Number(data().offset || 0);
  const match = side === "after" && $("match").checked ? 10 ** (offset / 20) : 1;
  return match * 10 ** (-(noise?.pad ?? 0) / 20);
}

function applyGains(fade = FADE) {
  const now = decks.context?.currentTime;
  for (const side of ["before", "after"]) {
    const g = decks.sides[side]?.gain.gain;
    if (!g) continue;
    g.cancelScheduledValues(now);
    g.setValueAtTime(g.value, now);
    g.linearRampToValueAtTime(sideGain(side), now + fade);
  }
}

async function fetchSide(url) {
  const res = await fetch(url);
  if (!res.ok) throw new Error(`the server answered ${res.status}`);
  return decks.context.decodeAudioData(await res.arrayBuffer());
}

function startSide(side, buffer, when, offset) {
  const source = decks.context.createBufferSource();
  const gain = decks.context.createGain();
  source.buffer = buffer;
  source.loop = true;
  gain.gain.value = sideGain(side);
  source.connect(gain).connect(decks.level);
  source.start(when, offset);
  decks.sides[side] = { source, gain, url: data()[side] };
}

function stopSides(sides, fade = FADE) {
  const now = decks.context.currentTime;
  for (const s of Object.values(sides)) {
    s.gain.gain.cancelScheduledValues(now);
    s.gain.gain.setValueAtTime(s.gain.gain.value, now);
    s.gain.gain.linearRampToValueAtTime(0, now + fade);
    s.source.stop(now + fade + 0.01);
  }
}

// position in the loop, s
function position() {
  if (!decks.playing) return 0;
  const t = decks.context.currentTime - decks.started;
  return t < 0 ? 0 : t % decks.duration;
}

// load brings both sides of what the page shows now, and starts them together where the
// loop stands. What plays goes on until then.
async function load(first) {
  const token = ++decks.token;
  if (!data().before) return;
  const wanted = { ...data() };
  $("deck").dataset.state = first ? "loading" : "refreshing";
  state(first ? "rendering the loop …" : "rendering the change …");
  try {
    const [before, after] = await Promise.all([fetchSide(wanted.before), fetchSide(wanted.after)]);
    if (token !== decks.token) return;
    const old = decks.sides;
    const resume = first || Math.abs(before.duration - (decks.duration ?? 0)) > 1e-6 ? 0 : (position() + 0.03) % before.duration;
    const when = decks.context.currentTime + 0.03;
    decks.sides = {};
    startSide("before", before, when, resume);
    startSide("after", after, when, resume);
    if (Object.keys(old).length) stopSides(old, 0.03 + FADE);
    decks.duration = before.duration;
    decks.started = when - resume;
    decks.loaded = wanted.before + wanted.after;
    decks.playing = true;
    if (first) {
      decks.level.gain.setValueAtTime(0, when);
      decks.level.gain.linearRampToValueAtTime(levelGain(), when + RAMP);
    }
    show();
  } catch (err) {
    if (token !== decks.token) return;
    $("deck").dataset.state = decks.playing ? "playing" : "failed";
    state(`The loop could not be played: ${err.message}. Your song is as it was.`);
  }
}

function show() {
  const deck = $("deck");
  deck.dataset.state = decks.playing ? "playing" : "stopped";
  deck.dataset.side = decks.side;
  deck.dataset.started = decks.started;
  deck.dataset.loaded = decks.loaded ?? "";
  $("play").textContent = decks.playing ? "Stop" : "Play loop";
  for (const side of ["before", "after"]) {
    $(`side-${side}`).classList.toggle("on", decks.side === side);
    $(`side-${side}`).setAttribute("aria-pressed", String(decks.side === side));
  }
  state("");
}

// ready makes what everything is played through.
function ready() {
  decks.context ??= new AudioContext({ sampleRate: Number(data().rate) });
  if (!decks.level) {
    decks.level = decks.context.createGain();
    decks.level.gain.value = 0;
    decks.level.connect(decks.context.destination);
  }
}

async function play() {
  if (!data().before) return state("Nothing to play yet.");
  ready();
  await decks.context.resume();
  await load(true);
}

function stop() {
  decks.token++;
  decks.playing = false;
  stopSides(decks.sides, 0.02);
  decks.sides = {};
  show();
}

function flip(side) {
  decks.side = side ?? (decks.side === "after" ? "before" : "after");
  applyGains();
  show();
}

document.addEventListener("click", (e) => {
  if (e.target.closest("#play")) {
    if (decks.playing) return stop();
    if (!localStorage.getItem("care-read")) return $("care-dialog").showModal();
    play();
  }
  if (e.target.closest("#care-ok")) {
    localStorage.setItem("care-read", "1");
    $("care-dialog").close();
    play();
  }
  const side = e.target.closest("#side-before, #side-after");
  if (side) flip(side.id.slice(5));
  const hear = e.target.closest("[data-hear]");
  if (hear) {
    const part = document.querySelector(`#deck-data button[data-solo="${hear.dataset.hear}"]`);
    const buses = $("solo-bus");
    if (part) part.click();
    else if (buses) {
      buses.value = hear.dataset.hear;
      buses.dispatchEvent(new Event("change", { bubbles: true }));
    }
    if (!decks.playing) $("play").click();
  }
  const trial = e.target.closest("[data-try]");
  if (trial) {
    flip("after");
    htmx.ajax("GET", `/songs/${document.body.dataset.song}/deck/data?solo=${data().solo}&school=${trial.dataset.try}`, { target: "#deck-data", swap: "outerHTML" })
      .then(() => { if (!decks.playing) $("play").click(); });
  }
  const alone = e.target.closest("[data-alone]");
  if (alone) {
    const at = Number(alone.dataset.alone);
    setLoop(at - 0.05, at + Math.max(0.25, Math.min(0.8, Number(alone.dataset.gap))));
    if (!decks.playing) $("play").click();
  }
  const centre = e.target.closest("[data-centre], .plot .hit");
  if (centre) centreOn(Number(centre.dataset.centre ?? centre.dataset.at));
});
document.addEventListener("deck-flip", () => flip());
document.addEventListener("change", (e) => { if (e.target.id === "match") applyGains(); });
document.addEventListener("input", (e) => {
  if (e.target.id !== "deck-level") return;
  $("deck-level-now").textContent = `${e.target.value.replace("-", "−")} dB`;
  if (decks.level) decks.level.gain.setTargetAtTime(levelGain(), decks.context.currentTime, 0.02);
});
document.addEventListener("dblclick", (e) => {
  if (e.target.id !== "deck-level") return;
  e.target.value = -18;
  e.target.dispatchEvent(new Event("input", { bubbles: true }));
});

// --- pink noise, beside the loop, at its own level times the deck's
function stopNoise() {
  if (!noise) return;
  const now = decks.context.currentTime;
  noise.gain.gain.cancelScheduledValues(now);
  noise.gain.gain.setValueAtTime(noise.gain.gain.value, now);
  noise.gain.gain.linearRampToValueAtTime(0, now + 0.05);
  noise.source.stop(now + 0.06);
  noise = null;
  applyGains(0.1);
  $("deck").dataset.noise = "";
}
document.addEventListener("deck-noise", async (e) => {
  const { url, button } = e.detail;
  if (noise) {
    stopNoise();
    button.textContent = "Play it";
    return;
  }
  if (!localStorage.getItem("care-read")) return $("care-dialog").showModal();
  ready();
  await decks.context.resume();
  try {
    const buffer = await fetchSide(url);
    const source = decks.context.createBufferSource();
    const gain = decks.context.createGain();
    source.buffer = buffer;
    source.loop = true;
    const now = decks.context.currentTime;
    gain.gain.setValueAtTime(0, now);
    gain.gain.linearRampToValueAtTime(1, now + RAMP);
    if (!decks.playing) decks.level.gain.setValueAtTime(levelGain(), now);
    source.connect(gain).connect(decks.level);
    source.start();
    noise = { source, gain, pad: Number(button.dataset.pad || 0) };
    applyGains(0.1);
    button.textContent = "Stop it";
    $("deck").dataset.noise = "playing";
  } catch (err) {
    state(`The noise could not be played: ${err.message}.`);
  }
});

// --- what the server sent anew
let matched = true;
document.addEventListener("htmx:beforeSwap", () => { matched = $("match")?.checked ?? true; });
document.addEventListener("htmx:afterSettle", () => {
  if (noise && !$("noise")) stopNoise();
  if ($("match")) $("match").checked = matched;
  if (!decks.playing) return;
  if (data().before + data().after !== decks.loaded) load(false);
  else applyGains();
});
document.addEventListener("htmx:oobAfterSwap", () => { if ($("match")) $("match").checked = matched; });

// --- the playhead
function draw() {
  const head = $("playhead");
  const scale = document.querySelector("#deck-song .scale")?.dataset;
  if (head && scale) {
    const t = Number(data().from) + position();
    const x = Number(scale.pad) + (t / Number(scale.seconds)) * (Number(scale.width) - 2 * Number(scale.pad));
    head.setAttribute("x1", x);
    head.setAttribute("x2", x);
  }
  requestAnimationFrame(draw);
}
requestAnimationFrame(draw);

// --- choosing the loop
function setLoop(from, to) {
  const seconds = Number(document.querySelector("#deck-song .scale").dataset.seconds);
  from = Math.max(0, from);
  to = Math.min(seconds, to);
  htmx.ajax("POST", `/songs/${document.body.dataset.song}/loop`, {
    target: "#sheet", swap: "innerHTML", values: { from: from.toFixed(6), to: to.toFixed(6), rev: $("rev").value },
  });
}

function centreOn(at) {
  const half = length() / 2;
  const seconds = Number(document.querySelector("#deck-song .scale").dataset.seconds);
  const from = Math.max(0, Math.min(at - half, seconds - 2 * half));
  setLoop(from, from + 2 * half);
}

function timeAt(e) {
  const svg = $("deck-song");
  const scale = svg.querySelector(".scale")?.dataset;
  if (!scale) return null;
  const r = svg.getBoundingClientRect();
  const width = Number(scale.width);
  const fit = Math.min(r.width / width, r.height / 96); // the drawing is scaled to fit, centred
  const x = (e.clientX - r.left - (r.width - width * fit) / 2) / fit;
  const t = ((x - Number(scale.pad)) / (width - 2 * Number(scale.pad))) * Number(scale.seconds);
  return Math.max(0, Math.min(Number(scale.seconds), t));
}

let drag = null;
document.addEventListener("pointerdown", (e) => {
  if (!e.target.closest(".deck-song") || e.button !== 0) return;
  const t = timeAt(e);
  if (t !== null) drag = { from: t, x: e.clientX };
});
document.addEventListener("pointermove", (e) => {
  if (!drag || Math.abs(e.clientX - drag.x) < 4) return;
  const span = loopOf(drag.from, timeAt(e), e.shiftKey);
  const scale = document.querySelector("#deck-song .scale").dataset;
  const x = (t) => Number(scale.pad) + (t / Number(scale.seconds)) * (Number(scale.width) - 2 * Number(scale.pad));
  const rect = document.querySelector("#deck-song .loop");
  rect.setAttribute("x", x(span[0]));
  rect.setAttribute("width", Math.max(1, x(span[1]) - x(span[0])));
});
document.addEventListener("pointerup", (e) => {
  if (!drag) return;
  const from = drag;
  drag = null;
  const t = timeAt(e);
  if (Math.abs(e.clientX - from.x) < 4) return clickHit(t);
  setLoop(...loopOf(from.from, t, e.shiftKey));
});

// loopOf orders two times and, unless free, widens them to whole bars.
function loopOf(a, b, free) {
  const scale = document.querySelector("#deck-song .scale").dataset;
  const bar = Number(scale.bar);
  const grid = Number(scale.grid);
  let [from, to] = a < b ? [a, b] : [b, a];
  if (!free) {
    from = Math.max(0, grid + Math.floor((from - grid) / bar + 1e-6) * bar);
    to = Math.max(from + bar, grid + Math.ceil((to - grid) / bar - 1e-6) * bar);
  }
  return [from, Math.max(to, from + 0.25)];
}

// the loop by keys: arrows move it by a bar, with Shift its end
document.addEventListener("keydown", (e) => {
  if (!e.target.closest?.("#loop-grip") || !["ArrowLeft", "ArrowRight"].includes(e.key)) return;
  e.preventDefault();
  const scale = document.querySelector("#deck-song .scale").dataset;
  const by = (e.key === "ArrowRight" ? 1 : -1) * Number(scale.bar);
  const [from, to] = [Number(data().from), Number(data().to)];
  if (e.shiftKey) {
    if (to + by - from >= 0.25 && to + by <= Number(scale.seconds) + 1e-6) setLoop(from, to + by);
  } else if (from + by >= -1e-6 && to + by <= Number(scale.seconds) + 1e-6) setLoop(from + by, to + by);
});

// clickHit centres the loop on the hit nearest to where the song was clicked.
function clickHit(t) {
  const marks = [...document.querySelectorAll("#deck-song .hitmark")].map((m) => Number(m.dataset.at));
  if (!marks.length || t === null) return;
  centreOn(marks.reduce((best, at) => (Math.abs(at - t) < Math.abs(best - t) ? at : best)));
}

// [ and ] jump the playing loop to the previous or next hit
document.addEventListener("deck-hit", (e) => {
  const from = Number(data().from);
  const hits = data().hits.split(" ").filter(Boolean).map((h) => Number(h) - from);
  if (!hits.length || !decks.playing) return;
  const now = position();
  const next = e.detail > 0 ? hits.find((h) => h > now + 0.05) ?? hits[0] : hits.findLast((h) => h < now - 0.25) ?? hits.at(-1);
  const when = decks.context.currentTime + 0.02;
  const old = decks.sides;
  const buffers = { before: old.before.source.buffer, after: old.after.source.buffer };
  decks.sides = {};
  const at = Math.max(0, next - 0.05);
  for (const side of ["before", "after"]) startSide(side, buffers[side], when, at);
  stopSides(old, 0.02);
  decks.started = when - at;
  show();
});
