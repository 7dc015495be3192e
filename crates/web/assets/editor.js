// Words of an event or a message: an ordinary editor in the place of the text field.
customElements.whenDefined("trix-editor").then(() => {
  "use strict";
  const area = document.querySelector("#description, [data-editor]");
  if (!area) return;
  const input = document.createElement("input");
  input.type = "hidden";
  input.name = area.name;
  input.id = `${area.id}-html`;
  // The editor knows one heading, the first; ours stand below the title.
  input.value = (area.dataset.html ?? area.value).replaceAll("<h3>", "<h1>").replaceAll("</h3>", "</h1>");
  const editor = document.createElement("trix-editor");
  editor.setAttribute("input", input.id);
  editor.setAttribute("aria-labelledby", area.getAttribute("aria-labelledby"));
  area.replaceWith(input, editor);
  // Pictures have their own place; files dropped into the text are not taken.
  document.addEventListener("trix-file-accept", (e) => e.preventDefault());
  // Nothing typed is lost by leaving unawares.
  let changed = false;
  const form = editor.closest("form");
  form.addEventListener("input", () => { changed = true; });
  // The editor also speaks of a change when it is filled at the start.
  editor.addEventListener("trix-change", () => { changed ||= document.activeElement === editor; });
  form.addEventListener("submit", () => { changed = false; });
  // What is kept as it is typed is not lost by leaving.
  if (!("kept" in form.dataset && form.hasAttribute("hx-post"))) addEventListener("beforeunload", (e) => { if (changed) e.preventDefault(); });
});
