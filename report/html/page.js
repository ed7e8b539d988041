"use strict";
(() => {
  const form = document.querySelector(".filters");
  const all = [...document.querySelectorAll(".finding")];
  const text = new Map(all.map((f) => [f, f.textContent.toLowerCase()]));
  const show = () => {
    const severities = new Set([...form.elements.severity].filter((b) => b.checked).map((b) => b.value));
    const { gateway, area, tunnel } = form.elements;
    const words = form.elements.text.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    for (const f of all) {
      const d = f.dataset;
      const fits = severities.has(d.severity) && (!gateway.value || d.gateways.split(" ").includes(gateway.value)) &&
        (!area.value || d.area === area.value) && (!tunnel.value || d.tunnel === tunnel.value) && words.every((w) => text.get(f).includes(w));
      f.hidden = !fits;
      if (fits) shown++;
    }
    form.querySelector("output").textContent = shown === all.length ? shown + " findings" : shown + " of " + all.length + " findings";
  };
  const only = (values) => {
    form.reset();
    for (const [name, value] of Object.entries(values)) {
      if (name === "severity") for (const b of form.elements.severity) b.checked = b.value === value;
      else form.elements[name].value = value;
    }
    show();
  };
  const open = () => {
    let at = document.getElementById(decodeURIComponent(location.hash.slice(1)));
    const target = at;
    for (; at; at = at.parentElement) if (at.tagName === "DETAILS") { at.open = true; at.hidden = false; }
    if (target) target.scrollIntoView();
  };
  form.addEventListener("input", show);
  form.addEventListener("reset", () => setTimeout(show));
  form.addEventListener("submit", (e) => e.preventDefault());
  document.addEventListener("click", (e) => {
    const a = e.target.closest("a[data-gateway], a[data-severity], a[data-area]");
    if (a) only({ ...a.dataset });
  });
  window.addEventListener("hashchange", open);
  let closed = [];
  window.addEventListener("beforeprint", () => { closed = [...document.querySelectorAll("details:not([open])")]; for (const d of closed) d.open = true; });
  window.addEventListener("afterprint", () => { for (const d of closed) d.open = false; });
  show();
  open();
})();
