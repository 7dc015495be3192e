// Inside the page of another site: tells it how high this page is.
(() => {
  "use strict";
  const tell = () => parent.postMessage({ matricleHeight: document.documentElement.getBoundingClientRect().height }, "*");
  new ResizeObserver(tell).observe(document.documentElement);
  addEventListener("load", tell);
})();
