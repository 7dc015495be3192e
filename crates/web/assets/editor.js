// Words of an event or a message: an ordinary editor in the place of the text field.
customElements.whenDefined("trix-editor").then(() => {
  "use strict";
  // Nothing typed is lost by leaving unawares.
  let changed = false;
  const enhance = (area) => {
    // The field itself stays and is sent: as it was until somebody types, since the editor writes
    // even what it only shows in its own way.
    area.value = area.dataset.html ?? area.value;
    const input = document.createElement("input");
    input.type = "hidden";
    input.id = `${area.id}-html`;
    // The editor knows one heading, the first; ours stand below the title.
    input.value = area.value.replaceAll("<h3>", "<h1>").replaceAll("</h3>", "</h1>");
    const editor = document.createElement("trix-editor");
    editor.setAttribute("input", input.id);
    editor.setAttribute("aria-labelledby", area.getAttribute("aria-labelledby"));
    area.hidden = true;
    for (const part of area.closest("form").querySelectorAll("[data-put-in]")) part.hidden = false;
    area.after(input, editor);
    let touched = false;
    const typed = () => {
      area.value = input.value;
      changed = true;
      area.closest("#words")?.setAttribute("data-changed", "");
    };
    // The editor also speaks of a change when it is filled at the start.
    for (const by of ["keydown", "beforeinput", "paste", "drop"]) editor.addEventListener(by, () => { touched = true; });
    editor.addEventListener("trix-change", () => { if (touched || document.activeElement === editor) typed(); });
    editor.addEventListener("put-in", (e) => {
      touched = true;
      const [opens, closes] = [e.detail, e.detail.startsWith("{{if ") ? "{{end}}" : ""];
      const [from, to] = editor.editor.getSelectedRange();
      editor.focus();
      if (closes) {
        editor.editor.setSelectedRange(to);
        editor.editor.insertString(closes);
        editor.editor.setSelectedRange(from);
      } else editor.editor.setSelectedRange([from, to]);
      editor.editor.insertString(opens);
      // What is only for some is written between the two.
      editor.editor.setSelectedRange(from + opens.length + (closes ? to - from : 0));
    });
    const form = editor.closest("form");
    if (form.dataset.watched) return;
    form.dataset.watched = "";
    form.addEventListener("input", () => { changed = true; });
    form.addEventListener("submit", () => { changed = false; });
    // What is kept as it is typed is not lost by leaving.
    if (!("kept" in form.dataset && form.hasAttribute("hx-post"))) addEventListener("beforeunload", (e) => { if (changed) e.preventDefault(); });
  };
  const areas = (root) => [...root.querySelectorAll("textarea#description, textarea[data-editor]")].filter((a) => !a.hidden);
  areas(document).slice(0, 1).forEach(enhance);
  // Pictures have their own place; files dropped into the text are not taken.
  document.addEventListener("trix-file-accept", (e) => e.preventDefault());
  document.addEventListener("click", (e) => {
    const part = e.target.closest("[data-put-in] button")?.parentElement;
    if (!part) return;
    const choice = part.querySelector("select");
    const editor = document.querySelector(`trix-editor[input="${part.dataset.putIn}-html"]`);
    if (choice.value && editor) editor.dispatchEvent(new CustomEvent("put-in", { detail: choice.value }));
    choice.value = "";
  });
  // Another template brings its words along, unless some were written already.
  const templates = document.querySelector("select[data-words]");
  templates?.addEventListener("change", async () => {
    const words = document.querySelector("#words");
    if (templates.value === "own" || words.hasAttribute("data-changed")) return;
    const answer = await fetch(`${templates.dataset.words}&template=${encodeURIComponent(templates.value)}`);
    if (!answer.ok) return;
    const fresh = document.createRange().createContextualFragment(await answer.text());
    words.replaceWith(fresh);
    areas(document.querySelector("#words")).forEach(enhance);
  });
  document.addEventListener("input", (e) => { if (e.target.matches("#words [name=subject]")) e.target.closest("#words").setAttribute("data-changed", ""); });
});
