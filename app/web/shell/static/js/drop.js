// Files that are dropped: on Intake they go into the same form as chosen ones, on a row into its own; on any other
// stage they are taken in and Intake is opened; on the list of songs they start one.

const form = () => document.getElementById("drop");
const song = () => document.body.dataset.song;
const listed = () => document.body.id === "home";

function holdsFiles(e) { return [...(e.dataTransfer?.types ?? [])].includes("Files"); }
function over(on) {
  form()?.classList.toggle("over", on);
  if (!form()) document.body.classList.toggle("over-page", on);
}

document.addEventListener("dragover", (e) => {
  if (!holdsFiles(e)) return;
  e.preventDefault(); // a file dropped anywhere must not replace the page
  over(true);
});
document.addEventListener("dragleave", (e) => { if (!e.relatedTarget) over(false); });
document.addEventListener("drop", async (e) => {
  if (!holdsFiles(e)) return;
  e.preventDefault();
  over(false);
  const row = e.target.closest?.(".stems tbody tr[data-name]");
  const entries = [...e.dataTransfer.items].map((i) => i.webkitGetAsEntry?.()).filter(Boolean);
  const folder = entries.length === 1 && entries[0].isDirectory ? entries[0].name : "";
  const files = await filesOf(e.dataTransfer);
  if (!files.length) return;
  if (row && files.length === 1) return send(row.querySelector(".replace-file"), files);
  if (form()) return send(document.getElementById("files"), files);
  if (song()) return takeIn(song(), files);
  if (listed()) start(nameOf(folder, files), files);
});

// takeIn brings files to a song from elsewhere, and opens Intake.
async function takeIn(id, files) {
  say(`taking in ${files.length === 1 ? files[0].name : `${files.length} files`} …`);
  const body = new FormData();
  for (const f of files) body.append("files", f, f.name);
  try {
    const res = await fetch(`/songs/${id}/stems`, { method: "POST", body, headers: { "HX-Request": "true" } });
    if (!res.ok) return say(new DOMParser().parseFromString(await res.text(), "text/html").body.textContent.trim());
    location.href = `/songs/${id}/intake`;
  } catch { say("The program does not answer; nothing was taken in."); }
}

// start makes a song of what was dropped on the list.
async function start(name, files) {
  say(`starting ${name} …`);
  const bpm = document.getElementById("new-bpm").value;
  const res = await fetch("/songs", { method: "POST", body: new URLSearchParams({ name, bpm }) });
  const id = /\/songs\/([^/]+)\//.exec(new URL(res.url).pathname)?.[1];
  if (!res.ok || !id) return say("The song could not be started; look at its tempo.");
  takeIn(id, files);
}

// nameOf names a song by what was typed, its folder, or what the files' names begin with.
function nameOf(folder, files) {
  const typed = document.getElementById("new-name").value.trim();
  if (typed || folder) return (typed || folder).slice(0, 120);
  const names = files.map((f) => f.name.replace(/\.[^.]*$/, ""));
  let shared = names[0];
  for (const n of names) while (!n.startsWith(shared)) shared = shared.slice(0, -1);
  shared = shared.replace(/[\s_\-.]+$/, "");
  if (names.length > 1 && shared.length >= 3) return shared.slice(0, 120);
  return `New song, ${new Date().toLocaleDateString("en-GB", { day: "numeric", month: "long" })}`;
}

function say(text) {
  const line = document.getElementById("dropping");
  if (line) {
    line.hidden = false;
    line.textContent = text;
    return;
  }
  const p = document.createElement("p");
  p.className = "notice-text";
  p.role = "status";
  p.textContent = text;
  document.getElementById("notice")?.replaceChildren(p);
}

// filesOf lists the files of a drop, those in dropped folders too.
async function filesOf(transfer) {
  const entries = [...transfer.items].map((i) => i.webkitGetAsEntry?.()).filter(Boolean);
  if (!entries.some((entry) => entry.isDirectory)) return [...transfer.files];
  const files = [];
  const walk = async (entry) => {
    if (entry.isFile) return files.push(await new Promise((ok, no) => entry.file(ok, no)));
    const reader = entry.createReader();
    for (;;) { // a folder is read some entries at a time
      const some = await new Promise((ok, no) => reader.readEntries(ok, no));
      if (!some.length) return;
      for (const inner of some) await walk(inner);
    }
  };
  for (const entry of entries) await walk(entry);
  return files.filter((f) => !f.name.startsWith("."));
}

// send puts files into a form's field, as if they had been chosen there.
export function send(field, files) {
  if (!field || !files.length) return;
  const holder = new DataTransfer();
  for (const f of files) holder.items.add(f);
  field.files = holder.files;
  field.dispatchEvent(new Event("change", { bubbles: true }));
}

