// The deck: plays the loop that the server rendered. Both sides run at once from the same
// instant and only their gains change, so switching is sample-aligned and without a gap. What is
// listened to is no part of the song: the deck asks for it, and nothing is stored.

import { asked } from "./ask.js";

const FADE = 0.008; // s, switch between the sides, and from one render to the next
const RAMP = 0.25; // s, from silence at the start
const SOON = 0.03; // s, what starts together is set up in
const NOW = 0.012; // s, what follows a hand
const CEILING = 10 ** (-1 / 20); // no side leaves over −1 dBFS

const $ = (id) => document.getElementById(id);
let noise = null; // pink noise beside the loop
const decks = { context: null, level: null, sides: {}, started: 0, playing: false, side: "after", token: 0 };

const data = () => $("deck-data").dataset;
const length = () => Number(data().to) - Number(data().from);

function state(text) { const el = $("deck-state"); if (el) el.textContent = text; }

function levelGain() { return 10 ** (Number($("deck-level").value) / 20); }

// gains of the two sides: the chosen one sounds, After turned by the match. While a hand draws, its
// parts sound in After's place.
function sideGain(side) {
  if (side === "after" && follow?.on) return 0;
  return sounds(side === "drawn" ? "after" : side);
}
function sounds(side) {
  if (side !== decks.side) return 0;
  return matchGain(side) * ceiling() * 10 ** (-(noise?.pad ?? 0) / 20);
}
function matchGain(side) {
  return side === "after" && $("match").checked ? 10 ** (Number(data().offset || 0) / 20) : 1;
}

// ceiling turns both sides down by the same where one of them, as it is matched, would leave over the deck's ceiling.
function ceiling() {
  const loudest = Math.max(0, ...Object.entries(decks.peaks ?? {}).map(([side, peak]) => peak * matchGain(side)));
  return loudest > CEILING ? CEILING / loudest : 1;
}
function peakOf(buffer) {
  let peak = 0;
  for (let c = 0; c < buffer.numberOfChannels; c++) {
    for (const v of buffer.getChannelData(c)) if (v > peak || -v > peak) peak = Math.abs(v);
  }
  return peak;
}

// turnedDown says by how much the ceiling turns down; empty where it does not.
function turnedDown() {
  const db = -20 * Math.log10(ceiling());
  $("deck").dataset.turned = db.toFixed(2);
  return db > 0.05 ? `both turned down by ${db.toFixed(1)} dB, to stay under −1 dBFS` : "";
}

// turn moves a gain to a value over a moment, from an instant on.
function turn(param, value, when, fade = FADE) {
  param.cancelScheduledValues(when);
  param.setValueAtTime(param.value, when);
  param.linearRampToValueAtTime(value, when + fade);
}

function applyGains(fade = FADE) {
  if (!decks.context) return;
  const now = decks.context.currentTime;
  for (const side of ["before", "after"]) {
    const g = decks.sides[side]?.gain.gain;
    if (g) turn(g, sideGain(side), now, fade);
  }
  if (follow?.out) turn(follow.out.gain, follow.on ? sounds("after") : 0, now, fade);
}

async function fetchSide(url) {
  const res = await fetch(url);
  if (!res.ok) throw new Error(`the server answered ${res.status}`);
  return decks.context.decodeAudioData(await res.arrayBuffer());
}

// onFrame puts an instant on a whole frame: what starts between two is interpolated.
function onFrame(t) { return Math.round(t * decks.context.sampleRate) / decks.context.sampleRate; }

// soon is the instant at which things are set going, and where the loop is then.
function soon(wait = SOON) {
  const when = onFrame(decks.context.currentTime + wait);
  return [when, decks.playing ? onFrame((when - decks.started) % decks.duration) % decks.duration : 0];
}

// looping plays a buffer round and round into a gain of its own that comes in over a moment.
function looping(buffer, when, at, value, into, fade = FADE) {
  const source = decks.context.createBufferSource();
  const gain = decks.context.createGain();
  source.buffer = buffer;
  source.loop = true;
  gain.gain.setValueAtTime(0, when);
  gain.gain.linearRampToValueAtTime(value, when + fade);
  source.connect(gain).connect(into);
  source.start(when, at);
  return { source, gain, value };
}

// leave lets what plays fade out from an instant on.
function leave(played, when, fade = FADE) {
  turn(played.gain.gain, 0, when, fade);
  played.source.stop(when + fade + 0.01);
}

// position in the loop, s
function position() {
  if (!decks.playing) return 0;
  const t = decks.context.currentTime - decks.started;
  return t < 0 ? 0 : t % decks.duration;
}

// load brings both sides of what the page shows now, and starts them together where the
// loop stands. What plays goes on until then, and one fades into the other.
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
    let [when, at] = soon();
    if (first || before.length !== decks.frames) at = 0;
    endFollow(when);
    decks.sides = {};
    decks.peaks = { before: peakOf(before), after: peakOf(after) };
    for (const [side, buffer] of [["before", before], ["after", after]]) {
      decks.sides[side] = looping(buffer, when, at, sideGain(side), decks.level);
    }
    for (const s of Object.values(old)) leave(s, when);
    decks.duration = before.duration;
    decks.frames = before.length;
    decks.started = when - at;
    decks.loaded = wanted.before + wanted.after;
    decks.playing = true;
    if (first) {
      decks.level.gain.setValueAtTime(0, when);
      decks.level.gain.linearRampToValueAtTime(levelGain(), when + RAMP);
    }
    show();
    loadParts();
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
  state(decks.playing ? turnedDown() : "");
  paint();
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
  const now = decks.context.currentTime;
  endFollow(now);
  for (const s of Object.values(decks.sides)) leave(s, now, 0.02);
  decks.sides = {};
  show();
}

function flip(side) {
  decks.side = side ?? (decks.side === "after" ? "before" : "after");
  applyGains();
  show();
}

// begin plays, after a word of care the first time.
function begin() { if (!decks.playing) $("play").click(); }

// --- what is listened to: the deck asks for another loop, part, Before or trial; the song stays as it is
function listen(changes) {
  const q = new URLSearchParams(data().choices);
  for (const [key, value] of Object.entries(changes)) {
    if (value === null || value === undefined) q.delete(key);
    else q.set(key, value);
  }
  if ("try" in changes) { // what is tried brings its own Before, and takes it with it
    if (!changes.try) q.delete("try");
    if (!("against" in changes)) q.delete("against");
    state(changes.try ? "working it out …" : "");
  }
  return asked("GET", `/songs/${document.body.dataset.song}/deck/data?${q}`, { source: "#listen", target: "#deck-data", swap: "outerHTML" });
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
  const solo = e.target.closest("#deck-data [data-solo]");
  if (solo) listen({ solo: solo.dataset.solo });
  const loop = e.target.closest("[data-loop]");
  if (loop) listen({ loop: loop.dataset.loop });
  const hear = e.target.closest("[data-hear]");
  if (hear) {
    const changes = { try: hear.dataset.try ?? null };
    if (hear.dataset.hear) changes.solo = hear.dataset.hear;
    flip("after");
    listen(changes).then(begin);
  } else if (e.target.closest("[data-try]:not(#deck-data)")) {
    listen({ try: null });
  }
  const ear = e.target.closest("[data-ear]");
  if (ear) listen({ ear: ear.dataset.ear }).then(begin);
  const track = e.target.closest("[data-against]");
  if (track) { // all of a track is there: all of the song beside it
    flip("before");
    listen({ against: track.dataset.against, solo: "all", try: null }).then(begin);
  }
  const taken = e.target.closest("#taken");
  if (taken) {
    flip("after");
    listen({ taken: taken.checked ? "1" : null });
  }
  const without = e.target.closest("[data-without]");
  if (without) listen({ without: without.dataset.without, against: "move", try: null }).then(begin);
  const alone = e.target.closest("[data-alone]");
  if (alone) {
    setLoop(...aloneOf(alone)).then(begin);
  }
  const centre = e.target.closest("[data-centre]");
  if (centre) centreOn(Number(centre.dataset.centre));
});
document.addEventListener("submit", (e) => {
  if (e.target.id !== "loop-form") return;
  e.preventDefault();
  listen({ loop: null, first: $("loop-first").value, last: $("loop-last").value });
});
document.addEventListener("change", (e) => {
  const choice = e.target.closest("#deck-data [data-choice]");
  if (choice) listen({ [choice.dataset.choice]: choice.value });
  if (e.target.id === "match") {
    applyGains();
    if (decks.playing) state(turnedDown());
  }
});
document.addEventListener("deck-flip", () => flip());
document.addEventListener("input", (e) => {
  if (e.target.id !== "deck-level") return;
  $("deck-level-now").textContent = `${e.target.value.replace("-", "\u2212")} dB`;
  if (decks.level) decks.level.gain.setTargetAtTime(levelGain(), decks.context.currentTime, 0.02);
});
document.addEventListener("dblclick", (e) => {
  if (e.target.id !== "deck-level") return;
  e.target.value = -18;
  e.target.dispatchEvent(new Event("input", { bubbles: true }));
});

// --- one hit alone: which of a list it is that plays
function aloneOf(el) {
  const at = Number(el.dataset.alone);
  return [Math.max(0, at - 0.05), at + Math.max(0.25, Math.min(0.8, Number(el.dataset.gap)))];
}
function markAlone() {
  for (const el of document.querySelectorAll("[data-alone]")) {
    const [from, to] = aloneOf(el);
    const now = Math.abs(from - Number(data().from)) < 2e-3 && Math.abs(to - Number(data().to)) < 2e-3;
    el.classList.toggle("now", now);
    el.ariaCurrent = now ? "true" : null;
  }
}

// --- the sound follows the hand: while a gain is drawn, the parts that the server rendered are played
// at the gains that the core works out for each place of the hand. The render that comes when the hand
// lets go takes their place.
let follow = null; // { key, buffers, out, played, shapes, on, asking, again }
async function loadParts() {
  const d = data();
  const key = d.parts ? `${d.part} ${d.parts} ${d.after}` : "";
  if (follow?.key === key || !key) return;
  const token = decks.token;
  const query = d.after.slice(d.after.indexOf("?"));
  const names = d.parts.split(" ");
  try {
    const got = await Promise.all(names.map((n) => fetchSide(`${d.part}${n}.wav${query}`)));
    if (token !== decks.token || !decks.playing) return;
    endFollow(decks.context.currentTime);
    follow = { key, buffers: Object.fromEntries(names.map((n, i) => [n, got[i]])), on: false };
    $("deck").dataset.parts = "ready";
  } catch { /* then the sound follows when the hand lets go */ }
}

// startFollow sets the parts going beside the sides.
function startFollow() {
  const [when, at] = soon(NOW);
  follow.out = decks.context.createGain();
  follow.out.gain.value = 0;
  follow.out.connect(decks.level);
  follow.played = {};
  follow.shapes = {};
  for (const [name, buffer] of Object.entries(follow.buffers)) {
    const source = decks.context.createBufferSource();
    const gain = decks.context.createGain();
    source.buffer = buffer;
    source.loop = true;
    gain.gain.value = name === "rest" ? 1 : 0; // a handled part waits for its gain
    source.connect(gain).connect(follow.out);
    source.start(when, at);
    follow.played[name] = { source, gain };
  }
}

// shape lets a part be played at a gain of one value a millisecond; null is none.
function shape(name, gains, when, at) {
  const part = follow.played[name];
  const old = follow.shapes[name];
  part.gain.gain.setValueAtTime(gains ? 0 : 1, when); // what plays into it is added
  delete follow.shapes[name];
  if (old) leave(old, when);
  if (!gains) return;
  const buffer = decks.context.createBuffer(1, decks.frames, decks.context.sampleRate);
  const x = buffer.getChannelData(0);
  const per = 1000 / decks.context.sampleRate;
  for (let i = 0; i < x.length; i++) {
    const t = i * per;
    const k = Math.min(gains.length - 1, Math.floor(t));
    const next = gains[Math.min(gains.length - 1, k + 1)];
    x[i] = gains[k] + (t - k) * (next - gains[k]);
  }
  follow.shapes[name] = looping(buffer, when, at, 1, part.gain.gain);
}

async function playDrawn(body) {
  const res = await fetch(data().follow, { method: "POST", body, headers: { "HX-Request": "true" } });
  if (res.status !== 200 || !follow || !decks.playing) return;
  const gains = await res.json();
  if (!follow || !decks.playing) return;
  if (!follow.out) startFollow();
  const [when, at] = soon(NOW);
  for (const [name, g] of Object.entries(gains)) {
    if (follow.played[name]) shape(name, g, when, at);
  }
  if (!follow.on) {
    follow.on = true;
    turn(follow.out.gain, sounds("after"), when);
    const g = decks.sides.after?.gain.gain;
    if (g) turn(g, 0, when);
  }
  $("deck").dataset.followed = String(Number($("deck").dataset.followed || 0) + 1);
}

document.addEventListener("deck-follow", async (e) => {
  if (!decks.playing || !follow) return;
  if (follow.asking) { follow.again = e.detail; return; }
  follow.asking = true;
  let body = e.detail;
  while (body && follow) {
    follow.again = null;
    try { await playDrawn(body); } catch { /* the next move asks again */ }
    body = follow?.again;
  }
  if (follow) follow.asking = false;
});

// release gives After its place back where nothing came of what was drawn.
function release() {
  endFollow(decks.context.currentTime);
  applyGains();
  loadParts();
}
document.addEventListener("deck-release", () => { if (follow?.on) release(); });

// endFollow lets the parts fade out from an instant on; what was fetched of them is of a song that is no more.
function endFollow(when) {
  if (!follow) return;
  const f = follow;
  follow = null;
  $("deck").dataset.parts = "";
  if (!f.out) return;
  turn(f.out.gain, 0, when);
  for (const s of [...Object.values(f.played), ...Object.values(f.shapes)]) s.source.stop(when + FADE + 0.01);
}

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
document.addEventListener("htmx:afterSettle", (e) => {
  paint();
  if (noise && !$("noise")) stopNoise();
  if ($("match")) $("match").checked = matched;
  if (Number(data().rev) < Number($("rev").value)) return listen({}); // an edit was answered before it
  markAlone();
  if (!decks.playing) return;
  if (data().before + data().after !== decks.loaded) load(false);
  else if (e.detail.target?.id === "sheet" && follow?.on) release(); // what was drawn was refused
  else applyGains();
});
document.addEventListener("htmx:oobAfterSwap", () => { paint(); if ($("match")) $("match").checked = matched; });

// --- the playhead: on the deck's strip, on pictures over the song's time, on the hit that sounds, and on the
// median hit
function drawOthers(t) {
  const line = document.querySelector("#hitline .playhead");
  const s = document.querySelector("#hitline .timescale")?.dataset;
  if (line && s) {
    line.toggleAttribute("hidden", !decks.playing || t < Number(s.from) || t > Number(s.to));
    const x = Number(s.left) + ((t - s.from) / (s.to - s.from)) * (s.right - s.left);
    line.setAttribute("x1", x);
    line.setAttribute("x2", x);
  }
  let since = null; // s, of the hit that sounds
  for (const cell of document.querySelectorAll(".plot .hit")) {
    const by = t - Number(cell.dataset.at);
    const on = decks.playing && by >= 0 && by < Number(cell.dataset.gap);
    if (cell.classList.contains("sounds") !== on) cell.classList.toggle("sounds", on);
    if (on) since = by;
  }
  const head = document.querySelector("#duck-editor .playhead");
  const e = document.querySelector("#duck-editor .scale")?.dataset;
  if (head && e) {
    const ms = 1000 * (since ?? 0);
    head.toggleAttribute("hidden", since === null || ms > Number(e.to));
    const x = Number(e.left) + ((ms - e.from) / (e.to - e.from)) * (e.right - e.left);
    head.setAttribute("x1", x);
    head.setAttribute("x2", x);
  }
}
// paint asks for the next frame: one after the other while it plays, one where something changed while it does not.
let painting = 0;
function paint() { painting ||= requestAnimationFrame(draw); }
paint();
function draw() {
  painting = 0;
  const head = $("playhead");
  const scale = document.querySelector("#deck-song .scale")?.dataset;
  if (head && scale) {
    const t = Number(data().from) + position();
    const x = Number(scale.pad) + (t / Number(scale.seconds)) * (Number(scale.width) - 2 * Number(scale.pad));
    head.setAttribute("x1", x);
    head.setAttribute("x2", x);
  }
  drawOthers(Number(data().from) + position());
  if (decks.playing) paint();
}

// --- choosing the loop
function setLoop(from, to) {
  const seconds = Number(document.querySelector("#deck-song .scale").dataset.seconds);
  return listen({ loop: `${Math.max(0, from).toFixed(6)}-${Math.min(seconds, to).toFixed(6)}` });
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
  const x = ((e.clientX - r.left) * width) / r.width;
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
  const [when] = soon();
  const at = onFrame(Math.max(0, next - 0.05));
  endFollow(when);
  const old = decks.sides;
  decks.sides = {};
  for (const side of ["before", "after"]) decks.sides[side] = looping(old[side].source.buffer, when, at, sideGain(side), decks.level);
  for (const s of Object.values(old)) leave(s, when);
  decks.started = when - at;
  show();
  loadParts();
});
