// Intake: folders chosen by a button, the closer look, the bar of an upload. What is dropped is taken in by drop.js.
import { send } from "./drop.js";

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
