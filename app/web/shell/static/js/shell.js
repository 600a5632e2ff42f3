// The shell: theme, dialogs, definitions, keys, number fields. Everything works on delegated
// events, so parts that htmx swaps need no set-up of their own.

import { asked } from "./ask.js";

const $ = (selector) => document.querySelector(selector);

// --- theme
document.addEventListener("click", (e) => {
  if (!e.target.closest("#theme")) return;
  e.preventDefault();
  const root = document.documentElement;
  const dark = root.dataset.theme ? root.dataset.theme === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
  root.dataset.theme = dark ? "day" : "night";
  document.cookie = `theme=${root.dataset.theme}; path=/; max-age=31536000; SameSite=Strict`;
});

// --- dialogs
document.addEventListener("click", (e) => {
  const opener = e.target.closest("[data-open]");
  if (opener) openDialog(opener.dataset.open);
  if (e.target.closest("[data-close]")) e.target.closest("dialog").close();
  if (e.target.closest("[data-close-notice]")) $("#notice").replaceChildren();
});

function openDialog(id) {
  const d = document.getElementById(id);
  if (!d || d.open) return;
  if (id === "keys-dialog") $("#help-body").replaceChildren($("#stage-help")?.content.cloneNode(true) ?? "");
  d.showModal();
  const first = d.querySelector("input, textarea");
  if (first) first.focus();
  else d.scrollTop = 0; // its button lies at the end
}

document.addEventListener("take-saved", () => {
  const d = $("#take-dialog");
  d.querySelector("form").reset();
  d.close();
});
// A refused take leaves the dialog open with what was typed; its sentence goes inside.
document.addEventListener("htmx:afterSwap", (e) => {
  const d = $("#take-dialog");
  if (e.detail.target.id === "notice" && d?.open) d.close();
});

// --- what a part of the page waited for is not worked on any more when that part is gone
const waiting = new WeakMap(); // element to what it asked for
document.addEventListener("htmx:beforeSend", (e) => {
  if (e.detail.requestConfig.verb === "get") waiting.set(e.detail.elt, e.detail.xhr);
});
document.addEventListener("htmx:beforeCleanupElement", (e) => {
  const xhr = waiting.get(e.target);
  if (!xhr || xhr.readyState === XMLHttpRequest.DONE) return;
  xhr.onabort = null; // nobody is there to be told
  xhr.abort();
});

// --- what is left or cancelled on purpose is no error: it is not written into the console
const under = new Set(); // requests that are not answered yet
let leaving = false;
document.addEventListener("htmx:beforeSend", (e) => {
  const { xhr } = e.detail;
  under.add(xhr);
  xhr.addEventListener("loadend", () => under.delete(xhr));
  if (leaving) hush(xhr);
});
window.addEventListener("beforeunload", () => {
  leaving = true;
  setTimeout(() => { leaving = false; }, 5000); // a download leaves nothing
  under.forEach(hush);
});
function hush(xhr) {
  for (const end of ["onabort", "onerror"]) {
    const told = xhr[end];
    xhr[end] = (e) => {
      const write = console.error;
      console.error = () => {};
      try { told?.call(xhr, e); } finally { console.error = write; }
    };
  }
}

// --- what was asked by a part that is gone by now still says what came of it, where the answer names the place
document.addEventListener("htmx:beforeSend", (e) => {
  const { elt, xhr } = e.detail;
  elt.addEventListener("htmx:beforeOnLoad", (b) => { // of an element that is gone it comes no further up
    const to = xhr.getResponseHeader("HX-Retarget");
    if (b.detail.xhr !== xhr || elt.isConnected || !to) return;
    b.preventDefault();
    const target = $(to);
    if (target) htmx.swap(target, xhr.responseText, { swapStyle: xhr.getResponseHeader("HX-Reswap") || "innerHTML" });
  });
});

// --- what takes longer than a moment says so, how far it is where that is known, and can be cancelled
const MOMENT = 300; // ms
let busy = null; // { xhr, began, path }
document.addEventListener("htmx:beforeSend", (e) => {
  if (!["sheet", "plan"].includes(e.detail.target?.id)) return;
  const { xhr, requestConfig } = e.detail;
  const mine = { xhr, began: performance.now(), path: requestConfig.path };
  const timer = setTimeout(() => { busy = mine; tell(mine); }, MOMENT);
  xhr.addEventListener("loadend", () => {
    clearTimeout(timer);
    if (busy !== mine) return;
    busy = null;
    $("#busy").hidden = true;
  });
});
async function tell(mine) {
  if (busy !== mine) return;
  const line = $("#busy-says");
  const seconds = Math.round((performance.now() - mine.began) / 1000);
  $("#busy").hidden = false;
  let says = `working${seconds ? `, ${seconds} s` : ""} …`;
  if (!seconds) line.textContent = says;
  const parts = /^\/songs\/([^/]+)\/([^?]+)/.exec(mine.path);
  if (parts) {
    try {
      const res = await fetch(`/songs/${parts[1]}/working/${parts[2]}`);
      if (res.status === 200) says = `${await res.text()} ${seconds} s`;
    } catch { /* it is said when the work itself ends */ }
  }
  if (busy !== mine) return;
  line.textContent = says;
  setTimeout(() => tell(mine), 500);
}
document.addEventListener("click", (e) => {
  if (!e.target.closest("#busy-cancel") || !busy) return;
  hush(busy.xhr);
  busy.xhr.abort();
  asked("GET", location.pathname + location.search, { target: "#sheet", swap: "innerHTML" }); // as it is, whatever came of it
});

// --- the program does not answer: what was typed is not stored, so when it is back the fields show what is
function notice(text) {
  const p = document.createElement("p");
  p.className = "notice-text";
  p.role = "alert";
  p.textContent = `${text} `;
  const close = document.createElement("button");
  close.type = "button";
  close.className = "btn quiet";
  close.dataset.closeNotice = "";
  close.textContent = "Close";
  p.append(close);
  $("#notice")?.replaceChildren(p);
}
let gone = false;
document.addEventListener("htmx:sendError", () => {
  notice("The program does not answer. Is it still running? What you did last was not stored; it can be done again.");
  if (!gone) back();
  gone = true;
});
// back asks until the program answers, then shows the stage as it is stored.
function back() {
  setTimeout(async () => {
    try {
      await fetch(import.meta.url, { method: "HEAD", cache: "no-store" }); // this script: the least that it can be asked for
    } catch {
      back();
      return;
    }
    gone = false;
    if ($("#sheet")) await asked("GET", location.pathname + location.search, { target: "#sheet", swap: "innerHTML" });
    notice("The program is back. What was done while it was away is not stored: the page shows what is.");
  }, 1000);
}

// --- an edit that was refused in the notice line leaves no field with what is not stored; what was written in words stays to be sent again
document.addEventListener("htmx:responseError", (e) => {
  const { elt, xhr } = e.detail;
  if (!xhr.getResponseHeader("HX-Retarget") || elt.closest("dialog")) return;
  for (const f of elt.matches("form") ? elt.elements : [elt]) {
    if (f.matches("select")) f.value = [...f.options].find((o) => o.defaultSelected)?.value ?? f.value;
    else if (f.matches("input[type=checkbox], input[type=radio]")) f.checked = f.defaultChecked;
    else if (f.matches("input[data-step], input[inputmode]")) f.value = f.defaultValue;
  }
});

// --- definitions on hover and focus
let bubble;
let described;
function define(el) {
  bubble?.remove();
  bubble = undefined;
  described?.removeAttribute("aria-describedby");
  described = undefined;
  const text = el?.dataset.def;
  if (!text) return;
  bubble = document.createElement("div");
  bubble.className = "bubble";
  bubble.id = "definition";
  described = el;
  el.setAttribute("aria-describedby", "definition");
  bubble.role = "tooltip";
  bubble.textContent = text;
  document.body.append(bubble);
  const r = el.getBoundingClientRect();
  const left = Math.max(8, Math.min(r.left, innerWidth - bubble.offsetWidth - 8));
  const below = r.bottom + 6 + bubble.offsetHeight < innerHeight;
  bubble.style.left = `${left}px`;
  bubble.style.top = `${below ? r.bottom + 6 : r.top - bubble.offsetHeight - 6}px`;
}
document.addEventListener("mouseover", (e) => define(e.target.closest?.("[data-def]")));
document.addEventListener("focusin", (e) => define(e.target.closest?.("[data-def]")));
document.addEventListener("focusout", () => define(null));

// --- number fields: wheel and arrow keys step, double-click resets
function step(field, direction, fine) {
  const text = field.value.trim().replace("−", "-").replace(",", ".");
  if (text.includes("/") || !Number.isFinite(Number(text)) || text === "") return false;
  const by = Number(field.dataset.step) * (fine ? 0.1 : 1);
  field.value = String(Math.round((Number(text) + direction * by) * 1000) / 1000);
  settle(field);
  return true;
}
let settling;
function settle(field) { // one edit for a run of steps
  clearTimeout(settling);
  settling = setTimeout(() => field.dispatchEvent(new Event("change", { bubbles: true })), 250);
}
document.addEventListener("keydown", (e) => {
  const f = e.target.closest?.("input[data-step]");
  if (!f || (e.key !== "ArrowUp" && e.key !== "ArrowDown")) return;
  if (step(f, e.key === "ArrowUp" ? 1 : -1, e.shiftKey)) e.preventDefault();
});
document.addEventListener("wheel", (e) => {
  const f = e.target.closest?.("input[data-step]");
  if (!f || document.activeElement !== f) return;
  if (step(f, e.deltaY < 0 ? 1 : -1, e.shiftKey)) e.preventDefault();
}, { passive: false });
document.addEventListener("dblclick", (e) => {
  const f = e.target.closest?.("input[data-default]");
  if (!f) return;
  f.value = f.dataset.default;
  f.dispatchEvent(new Event("change", { bubbles: true }));
});

// --- copying: tables, and values to be set by hand elsewhere
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
});

// --- a stage that was opened is read from its heading on
let opened = false;
let place = location.pathname;
document.addEventListener("htmx:pushedIntoHistory", () => {
  opened = location.pathname !== place; // and not another part of the same stage
  place = location.pathname;
});
document.addEventListener("htmx:afterSettle", (e) => {
  if (!opened || e.target.id !== "sheet") return;
  opened = false;
  const heading = $("#sheet h1");
  if (!heading) return;
  heading.tabIndex = -1;
  heading.focus({ preventScroll: true });
  scrollTo(0, 0);
});

// --- a field is chosen whole when it is entered, by keys or by a click
let entered;
document.addEventListener("focusin", (e) => {
  entered = e.target.closest?.("input[data-step]");
  entered?.select();
});
document.addEventListener("mouseup", (e) => {
  if (entered && e.target === entered && entered.selectionStart === entered.selectionEnd) entered.select();
  entered = undefined;
});

// --- focus survives a swap, with what is chosen in the field and what was typed since it was last sent
document.addEventListener("change", (e) => {
  if (e.target.matches?.("input")) e.target.sent = e.target.value;
}, true);
let focused;
document.addEventListener("htmx:beforeSwap", () => {
  const f = document.activeElement;
  focused = f?.id && { id: f.id };
  if (!focused || !f.matches("input[type=text], input:not([type])")) return;
  if (f.value !== (f.sent ?? f.defaultValue)) focused.typed = f.value;
  focused.all = f.selectionStart === 0 && f.selectionEnd === f.value.length;
  focused.chosen = [f.selectionStart, f.selectionEnd];
});
document.addEventListener("htmx:afterSwap", () => {
  const f = focused && document.getElementById(focused.id);
  if (!f || document.activeElement !== document.body && document.activeElement !== f) return;
  f.focus({ preventScroll: true });
  if (!focused.chosen) return;
  if (focused.typed !== undefined) f.value = focused.typed;
  if (focused.all && f.value) f.select();
  else f.setSelectionRange(...focused.chosen);
  focused = undefined;
});

// --- keys, never while a field has focus
// through listens to the loop in the next way of a group, and after the last as it is.
function through(group, plain) {
  const all = [...document.querySelectorAll(`#ear option[data-group=${group}]`)];
  const el = $("#ear");
  if (!el) return;
  const next = all.findIndex((o) => o.value === el.value) + 1;
  el.value = plain ? "" : (all[next]?.value ?? "");
  el.dispatchEvent(new Event("change", { bubbles: true }));
}
document.addEventListener("keydown", (e) => {
  if (e.target.closest?.("input:not([type=checkbox]):not([type=range]), textarea, select") || document.querySelector("dialog[open]")) return;
  if (e.ctrlKey || e.metaKey) {
    if (e.key.toLowerCase() === "z" && !e.altKey) {
      e.preventDefault();
      $(e.shiftKey ? "#redo" : "#undo")?.click();
    }
    return;
  }
  if (e.altKey) return;
  const stages = document.querySelectorAll("#rail a");
  if (/^[0-9]$/.test(e.key)) return stages[(Number(e.key) + 9) % 10]?.click();
  const act = {
    " ": () => $("#play")?.click(),
    x: () => document.dispatchEvent(new Event("deck-flip")),
    m: () => $("#match")?.click(),
    d: () => through("device", e.shiftKey),
    b: () => through("band", e.shiftKey),
    "[": () => document.dispatchEvent(new CustomEvent("deck-hit", { detail: -1 })),
    "]": () => document.dispatchEvent(new CustomEvent("deck-hit", { detail: 1 })),
    f: () => $("#fit")?.click(),
    s: () => openDialog("take-dialog"),
    "?": () => openDialog("keys-dialog"),
  }[e.key.length === 1 ? e.key.toLowerCase() : ""];
  if (!act) return;
  if (e.key === " " && e.target.closest?.("button, a, [role=slider], [type=checkbox]") && e.target.id !== "play") {
    if (e.target.closest("button, a, [type=checkbox]")) return; // Space presses what has focus
  }
  e.preventDefault();
  act();
});
