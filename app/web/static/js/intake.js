// Intake: files dropped anywhere on the sheet go into the same form as chosen ones.

const drop = () => document.getElementById("drop");

function holdsFiles(e) { return [...(e.dataTransfer?.types ?? [])].includes("Files"); }

document.addEventListener("dragover", (e) => {
  if (!holdsFiles(e)) return;
  e.preventDefault(); // a file dropped beside the form must not replace the page
  drop()?.classList.toggle("over", Boolean(e.target.closest?.("#sheet")));
});
document.addEventListener("dragleave", (e) => { if (!e.relatedTarget) drop()?.classList.remove("over"); });
document.addEventListener("drop", (e) => {
  if (!holdsFiles(e)) return;
  e.preventDefault();
  const form = drop();
  form?.classList.remove("over");
  const files = document.getElementById("files");
  if (!files) return;
  files.files = e.dataTransfer.files;
  files.dispatchEvent(new Event("change", { bubbles: true }));
});

document.addEventListener("htmx:xhr:progress", (e) => {
  const bar = document.getElementById("upload");
  if (!bar || !e.detail.lengthComputable) return;
  bar.hidden = false;
  bar.value = (100 * e.detail.loaded) / e.detail.total;
});
document.addEventListener("htmx:afterRequest", (e) => {
  if (e.target.id !== "drop") return;
  document.getElementById("upload").hidden = true;
  document.getElementById("files").value = "";
});
