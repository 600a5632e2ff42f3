// Intake: files dropped anywhere on the sheet go into the same form as chosen ones.

const drop = () => document.getElementById("drop");

function holdsFiles(e) { return [...(e.dataTransfer?.types ?? [])].includes("Files"); }

document.addEventListener("dragover", (e) => {
  if (!holdsFiles(e)) return;
  e.preventDefault(); // a file dropped beside the form must not replace the page
  drop()?.classList.toggle("over", Boolean(e.target.closest?.("#sheet")));
});
document.addEventListener("dragleave", (e) => { if (!e.relatedTarget) drop()?.classList.remove("over"); });
document.addEventListener("drop", async (e) => {
  if (!holdsFiles(e)) return;
  e.preventDefault();
  drop()?.classList.remove("over");
  const row = e.target.closest?.(".stems tbody tr[data-name]");
  const files = await filesOf(e.dataTransfer);
  if (row && files.length === 1) return send(row.querySelector(".replace-file"), files);
  send(document.getElementById("files"), files);
});

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
function send(field, files) {
  if (!field || !files.length) return;
  const holder = new DataTransfer();
  for (const f of files) holder.items.add(f);
  field.files = holder.files;
  field.dispatchEvent(new Event("change", { bubbles: true }));
}

document.addEventListener("click", (e) => {
  if (e.target.closest("#folder-button")) document.getElementById("folder").click();
  const more = e.target.closest("[data-close-more]");
  if (more) more.closest("td").replaceChildren();
});
document.addEventListener("change", (e) => {
  if (e.target.id !== "folder") return;
  e.stopPropagation();
  send(document.getElementById("files"), [...e.target.files].filter((f) => !f.name.startsWith(".")));
  e.target.value = "";
});

document.addEventListener("htmx:xhr:progress", (e) => {
  const bar = document.getElementById("upload");
  if (!bar || !e.detail.lengthComputable || !e.target.closest?.("#drop, .replace")) return;
  bar.hidden = false;
  bar.value = (100 * e.detail.loaded) / e.detail.total;
});
document.addEventListener("htmx:afterRequest", (e) => {
  if (!e.target.closest?.("#drop, .replace")) return;
  document.getElementById("upload").hidden = true;
  document.getElementById("files").value = "";
});
