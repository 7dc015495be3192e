// Many badges take a while to draw: how far they are stands below the button.
(() => {
  "use strict";
  const take = document.getElementById("take"), say = document.getElementById("drawing");
  if (!take || Number(take.dataset.people) < 60) return;
  const of = Number(take.dataset.people), bar = document.createElement("progress"), words = document.createElement("span");
  bar.max = of;
  bar.setAttribute("aria-label", "How many are drawn");
  say.append(bar, " ", words);
  let busy = false;
  take.addEventListener("click", async (e) => {
    if (e.ctrlKey || e.metaKey || e.shiftKey) return;
    e.preventDefault();
    if (busy) return;
    busy = true;
    const key = Array.from(crypto.getRandomValues(new Uint8Array(12)), (b) => b.toString(16).padStart(2, "0")).join("");
    say.hidden = false;
    bar.value = 0;
    words.textContent = "Drawing …";
    const look = setInterval(async () => {
      const { drawn } = await (await fetch(`/office/doors/papers/drawn?key=${key}`)).json();
      if (busy && drawn) { bar.value = drawn; words.textContent = `${drawn} of ${of} drawn`; }
    }, 150);
    try {
      const answer = await fetch(`${take.href}${take.href.includes("?") ? "&" : "?"}key=${key}`);
      if (!answer.ok) throw new Error(String(answer.status));
      const blob = await answer.blob();
      const link = document.createElement("a");
      link.href = URL.createObjectURL(blob);
      link.download = /filename="([^"]+)"/.exec(answer.headers.get("content-disposition") ?? "")?.[1] ?? "papers.pdf";
      link.click();
      setTimeout(() => URL.revokeObjectURL(link.href), 60000);
      bar.value = of;
      words.textContent = `All drawn: ${link.download}`;
    } catch { words.textContent = "It could not be drawn. Try it again."; } finally { clearInterval(look); busy = false; }
  });
})();
