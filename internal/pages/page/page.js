"use strict";
(() => {
  const element = document.getElementById("origins-data");
  const origins = element ? JSON.parse(element.textContent) : null;
  const mask = (1n << 64n) - 1n;
  const address = (n) => {
    let digits = n.toString(16).toUpperCase();
    digits = digits.padStart(Math.max(4, Math.ceil(digits.length / 4) * 4), "0");
    return "0x" + digits.replace(/(.{4})(?=.)/g, "$1_");
  };
  const rangeAt = (table, at) => {
    let low = 0, high = table.ranges.length;
    while (low < high) {
      const mid = (low + high) >> 1;
      const p = table.ranges[mid];
      if (BigInt(p[0]) + BigInt(p[1]) - 1n >= at) high = mid; else low = mid + 1;
    }
    const p = table.ranges[low];
    return p && BigInt(p[0]) <= at ? p : null;
  };
  const detail = (input, position) => {
    const list = input.details || [];
    let found = null;
    for (const d of list) { if (d[0] <= position) found = d; else break; }
    if (!found) return "";
    const words = [];
    if (found[1] >= 0) {
      const [name, first] = input.symbols[found[1]];
      words.push(position > first ? name + "+0x" + (position - first).toString(16).toUpperCase() : name);
    }
    if (found[2] >= 0) words.push(input.sources[found[2]] + (found[3] > 0 ? ":" + found[3] : ""));
    return words.length ? " (" + words.join(", ") + ")" : "";
  };
  const place = (input, position) => {
    if (input.step) return input.step;
    if (input.counts === "lines") return input.file + ":" + position;
    return input.file + (input.section ? " " + input.section : "") + "+0x" + position.toString(16).toUpperCase() + detail(input, position);
  };
  // origin says where the byte at an address came from, as the program does.
  const origin = (at) => {
    if (!origins) return null;
    let table = origins.tables[0];
    const steps = [];
    for (;;) {
      const p = table && rangeAt(table, at);
      if (!p) return null;
      const s = table.sources[p[2]], input = origins.inputs[s.input];
      if (!s.from) {
        const offset = at - BigInt(p[0]);
        const position = p[4] ? BigInt(p[3]) + (offset + BigInt(p[5])) / BigInt(p[4]) : BigInt(p[3]);
        return [place(input, Number(position)), ...steps.reverse()].join(", ");
      }
      steps.push(input.step);
      const word = BigInt(s.word || 1), lanes = BigInt(s.lanes || 1);
      let which = 0;
      if (s.rule === "swapped") at = at - at % word + word - 1n - at % word;
      else if (s.rule === "joined") { const w = at / word; which = Number(w % lanes); at = w / lanes * word + at % word; }
      else if (s.rule === "lane") at = (at / word * lanes + BigInt(s.lane || 0)) * word + at % word;
      else at = (at - BigInt(s.delta || 0)) & mask;
      table = origins.tables[s.from[which]];
    }
  };
  const tell = (at, name) => address(at) + (name ? "  " + name : "") + "  " + (origin(at) || "no byte of the image");
  for (const box of document.querySelectorAll(".drawings")) {
    const under = box.querySelector(".under");
    let at = null, part = null;
    const show = (seg, n) => {
      const first = BigInt(seg.dataset.first), last = BigInt(seg.dataset.last);
      at = n < first ? first : n > last ? last : n;
      part = seg;
      under.textContent = tell(at, seg.dataset.name);
    };
    for (const seg of box.querySelectorAll("[data-first]")) {
      const first = BigInt(seg.dataset.first), last = BigInt(seg.dataset.last);
      seg.addEventListener("pointermove", (e) => {
        const b = seg.getBoundingClientRect();
        const share = Math.min(Math.max((e.clientX - b.left) / b.width, 0), 0.999999);
        show(seg, first + (last - first + 1n) * BigInt(Math.floor(share * 1e6)) / 1000000n);
      });
      const focus = seg.closest("a") || seg;
      focus.addEventListener("focus", () => show(seg, first));
      focus.addEventListener("keydown", (e) => {
        if (part !== seg || !["ArrowLeft", "ArrowRight"].includes(e.key)) return;
        const step = e.shiftKey ? 1n : (last - first) / 64n + 1n;
        show(seg, e.key === "ArrowRight" ? at + step : at - step);
        e.preventDefault();
      });
    }
  }
  const form = document.querySelector(".search");
  if (form && origins) {
    form.hidden = false;
    const output = form.querySelector("output");
    const one = (text) => {
      const digits = text.replace(/_/g, "");
      if (!/^(0x[0-9a-f]{1,16}|[0-9]{1,20})$/i.test(digits)) return "An address is expected, such as 0x7800.";
      const at = BigInt(digits);
      return address(at) + (origin(at) ? " comes from " + origin(at) : " is not in the image");
    };
    // Several addresses may be asked for at once.
    const look = (text) => { output.textContent = text.trim().split(/[\s,]+/).map(one).join("\n"); };
    form.addEventListener("submit", (e) => { e.preventDefault(); look(form.address.value); });
    const asked = /^#at=(.*)$/.exec(location.hash);
    if (asked) { form.address.value = decodeURIComponent(asked[1]); look(form.address.value); }
  }
})();
