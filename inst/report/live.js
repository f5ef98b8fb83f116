// The figures of a report that can be asked: hover and keys tell values, dragging and buttons zoom, series are
// switched on and off; tables are sorted by their heads. Without this script the drawn figures stay.
(function () {
  "use strict";
  const root = document.documentElement;
  const tone = name => getComputedStyle(root).getPropertyValue(name).trim();
  const make = (tag, attributes, ...inside) => {
    const e = document.createElement(tag);
    Object.entries(attributes || {}).forEach(([k, v]) => k in e && k !== "list" ? (e[k] = v) : e.setAttribute(k, v));
    inside.forEach(i => e.append(i));
    return e;
  };
  const spread = v => Array.isArray(v) ? v : v && typeof v === "object" ? Array.from({ length: v.n }, (_, i) => v.from + v.by * i) : [v];
  const listed = v => Array.isArray(v) ? v : [v];
  // As many digits as tell neighbours apart.
  const number = (v, digits) => v == null ? "-" : v !== 0 && Math.abs(v) < 1e-4 ? v.toExponential(Math.max(0, (digits || 5) - 1)) :
    v.toLocaleString("en-GB", { maximumSignificantDigits: Math.min(15, Math.max(digits || 5, Math.ceil(Math.log10(Math.abs(v) + 1)))) });

  function clock(data) {
    if (!data.time) return { words: v => String(v), marks: null };
    const zone = data.zone || "UTC";
    const form = options => {
      try { return new Intl.DateTimeFormat("en-GB", Object.assign({ timeZone: zone }, options)); }
      catch (e) { return new Intl.DateTimeFormat("en-GB", Object.assign({ timeZone: "UTC" }, options)); }
    };
    const day = form({ day: "numeric", month: "long", year: "numeric" });
    const full = form({ day: "numeric", month: "long", year: "numeric", hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
    const year = form({ year: "numeric" }), month = form({ month: "short" }), date = form({ day: "numeric", month: "short" });
    const time = form({ hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
    const at = s => new Date(s * 1000);
    return {
      words: s => (data.clock ? full : day).format(at(s)),
      // Each mark once says its year or day, below what changes from mark to mark.
      marks: (u, splits, axis, room, step) => {
        const fine = step >= 360 * 86400 ? year : step >= 28 * 86400 ? month : step >= 86400 ? date : time;
        const coarse = fine === year ? null : fine === time ? date : year;
        let last = "";
        return splits.map(s => {
          const below = coarse ? coarse.format(at(s)) : "";
          const out = fine.format(at(s)) + (below !== last ? "\n" + below : "");
          last = below;
          return out;
        });
      },
      zone
    };
  }

  // One figure: data, what is shown of it, and the chart while it is drawn.
  function Figure(figure, data) {
    const name = figure.querySelector("figcaption");
    const live = figure.querySelector(".live");
    const when = clock(data);
    let panel = 0, chart = null, shown = [];
    const tip = make("div", { className: "tip", hidden: true });
    const said = make("p", { className: "said" });
    said.setAttribute("aria-live", "polite");
    const stage = make("div", { className: "stage", tabIndex: 0 });
    stage.setAttribute("role", "group");
    stage.setAttribute("aria-label", (name ? name.firstChild.textContent.trim() + " " : "") +
      "Arrow keys tell values, plus and minus zoom, 0 shows everything.");
    const keys = make("div", { className: "names" });
    const bar = make("div", { className: "bar" }), names = make("div", { className: "names" });
    names.setAttribute("role", "group");
    names.setAttribute("aria-label", "Series");

    const button = (text, title, run) => {
      const b = make("button", { type: "button", title: title }, text);
      b.addEventListener("click", run);
      return b;
    };
    const span = () => { const x = chart.data[0]; return [x[0], x[x.length - 1]]; };
    const range = (low, high) => {
      const [a, b] = span(), least = Math.max((b - a) / 2000, 1e-9);
      low = Math.max(a, low); high = Math.min(b, high);
      if (high - low < least) return;
      chart.setScale("x", { min: low, max: high });
    };
    const zoom = by => {
      const { min, max } = chart.scales.x, middle = chart.cursor.idx == null ? (min + max) / 2 : chart.data[0][chart.cursor.idx];
      range(middle - (middle - min) * by, middle + (max - middle) * by);
    };
    const last = seconds => { const [, b] = span(); range(b - seconds, b); };
    const whole = () => { const [a, b] = span(); range(a, b); };

    function controls() {
      bar.replaceChildren();
      if (data.panels.length > 1) {
        const pick = make("select", {}, ...data.panels.map((p, i) => make("option", { value: i }, p.title)));
        pick.setAttribute("aria-label", "Measure");
        pick.value = panel;
        pick.addEventListener("change", () => { panel = +pick.value; choose(); draw(); });
        bar.append(pick);
      }
      bar.append(button("Zoom in", "or drag over the figure", () => zoom(0.5)), button("Zoom out", "", () => zoom(2)));
      const x = spread(data.panels[panel].x), wide = x[x.length - 1] - x[0];
      if (data.time) {
        [["Last year", 366 * 86400], ["Last quarter", 92 * 86400], ["Last week", 7 * 86400], ["Last day", 86400]]
          .filter(([, s]) => s < 0.8 * wide && wide / s < 60).slice(0, 2)
          .forEach(([text, s]) => bar.append(button(text, "", () => last(s))));
      }
      bar.append(button("Everything", "or a double click", whole));
    }

    // Which series are drawn at first: all where they share a scale and are few.
    function choose() {
      const all = data.panels[panel].series;
      const size = all.map(s => Math.max(...s.lines.map(l => listed(l.y).reduce((m, v) => Math.max(m, Math.abs(v || 0)), 0))));
      const alike = Math.max(...size) < 20 * Math.min(...size.filter(v => v > 0));
      const most = data.panels[panel].alone ? 1 : all.length <= 8 && alike ? 8 : all.length <= 8 ? 1 : 3;
      shown = all.map((s, i) => i < most);
    }

    function toggles() {
      const all = data.panels[panel].series;
      names.replaceChildren();
      if (all.length < 2) return;
      if (all.length > 12) {
        const find = make("input", { type: "search", placeholder: "Find among " + all.length });
        find.setAttribute("aria-label", "Find a series");
        find.addEventListener("input", () => {
          const want = find.value.toLowerCase();
          names.querySelectorAll("button").forEach((b, i) => { b.hidden = !all[i].name.toLowerCase().includes(want); });
        });
        names.append(find);
      }
      all.forEach((s, i) => {
        const b = make("button", { type: "button", className: "toggle" });
        b.append(make("span", { className: "key" }), s.name || "series " + (i + 1));
        b.addEventListener("click", () => {
          if (data.panels[panel].alone) shown = all.map((_, k) => k === i);
          else shown[i] = !shown[i];
          mark();
          draw(true);
        });
        names.append(b);
      });
      mark();
    }
    function mark() {
      const all = [...names.querySelectorAll("button")];
      all.forEach((b, i) => {
        b.setAttribute("aria-pressed", String(shown[i]));
        b.querySelector(".key").style.background = shown[i] && !data.panels[panel].alone ? colour(i) : "transparent";
      });
    }
    // Colours by the order among those that are shown, so that few series have the clearest.
    const colour = i => tone("--line" + (1 + shown.slice(0, i).filter(Boolean).length % 8));

    function lines() {
      const p = data.panels[panel], x = spread(p.x), out = { data: [x], series: [{}], bands: [], told: [null] };
      let method = 0;
      p.series.forEach((s, i) => {
        if (!shown[i]) return;
        s.lines.forEach(l => {
          const at = spread(l.at), put = v => {
            // Between the line's own stamps there is nothing to break it; a missing value does.
            const y = new Array(x.length).fill(undefined);
            listed(v).forEach((e, k) => { y[at[k]] = e; });
            return y;
          };
          const stroke = l.kind === "method" ? tone("--line" + (2 + method++ % 7)) : p.alone || p.series.length === 1 && l.kind !== "forecast" ? tone("--ink") : colour(i);
          const points = l.kind === "invented" || listed(l.y).length === 1;
          out.data.push(put(l.y));
          out.series.push({
            stroke: p.series.length === 1 && l.kind === "forecast" ? tone("--line2") : stroke, width: l.kind === "forecast" ? 2.2 : 1.3,
            dash: l.kind === "method" ? [5, 3] : undefined, spanGaps: false,
            points: { show: points, size: 6, fill: tone("--ground"), stroke: stroke }, paths: l.kind === "invented" ? () => null : undefined
          });
          out.told.push({ series: s.name, line: l, y: out.data[out.data.length - 1], stroke });
          if (l.low) {
            out.data.push(put(l.high), put(l.low));
            const edge = { stroke: "transparent", width: 0, points: { show: false } };
            out.series.push(edge, edge);
            out.told[out.told.length - 1].bounds = [out.data[out.data.length - 1], out.data[out.data.length - 2]];
            out.told.push(null, null);
            const k = out.series.length;
            out.bands.push({ series: [k - 2, k - 1], fill: (p.series.length === 1 ? tone("--line2") : stroke) + "44" });
          }
        });
      });
      return out;
    }

    // What each line is, where one series has several.
    function legend() {
      keys.replaceChildren(...drawn.told.filter(t => t && t.line.label && data.panels[panel].alone).map(t => {
        const key = make("span", { className: "key" });
        key.style.background = t.stroke;
        return make("span", { className: "named" }, key, t.line.label);
      }));
    }

    let drawn = null, digits = 5;
    function weigh() {
      let low = Infinity, high = -Infinity;
      drawn.told.forEach(t => t && listed(t.line.y).forEach(v => { if (v != null) { low = Math.min(low, v); high = Math.max(high, v); } }));
      const size = Math.max(Math.abs(low), Math.abs(high)) / (high - low);
      digits = Number.isFinite(size) && size > 0 ? Math.min(15, 5 + Math.max(0, Math.ceil(Math.log10(size)))) : 6;
    }
    // The point of any line that is nearest to the pointer.
    function nearest(u) {
      const left = u.cursor.left, top = u.cursor.top;
      if (left == null || left < 0 || u.cursor.idx == null) return null;
      let best = null;
      drawn.told.forEach((t, k) => {
        if (!t) return;
        for (let step = 0; step < 400; ++step) {
          const found = [u.cursor.idx - step, u.cursor.idx + step].filter(i => t.y[i] != null);
          if (!found.length) continue;
          found.forEach(i => {
            const dx = u.valToPos(u.data[0][i], "x") - left, dy = u.valToPos(t.y[i], "y") - top;
            const off = Math.hypot(dx, top < 0 ? 0 : dy);
            if (!best || off < best.off) best = { off, i, t };
          });
          break;
        }
      });
      return best;
    }
    const sentence = hit => {
      const unit = data.panels[panel].unit, t = hit.t, label = [t.series, t.line.label].filter(Boolean).join(", ");
      const bounds = t.bounds && t.bounds[0][hit.i] != null ? " (" + number(t.bounds[0][hit.i], digits) + " to " + number(t.bounds[1][hit.i], digits) + ")" : "";
      return [when.words(chart.data[0][hit.i]), (label ? label + ": " : "") + number(t.y[hit.i], digits) + bounds + (unit ? " " + unit : "")];
    };
    function tell(u) {
      const hit = nearest(u);
      tip.hidden = !hit;
      if (!hit) { said.textContent = ""; return; }
      const [stamp, words] = sentence(hit);
      tip.replaceChildren(make("div", {}, stamp), make("strong", {}, words));
      tip.style.borderColor = hit.t.stroke;
      const x = u.valToPos(u.data[0][hit.i], "x") + u.over.offsetLeft, y = u.valToPos(hit.t.y[hit.i], "y") + u.over.offsetTop;
      const wide = stage.clientWidth;
      tip.style.left = Math.min(Math.max(x + (x > wide / 2 ? -tip.offsetWidth - 12 : 12), 0), Math.max(0, wide - tip.offsetWidth)) + "px";
      tip.style.top = Math.max(0, y - tip.offsetHeight - 8) + "px";
      said.textContent = stamp + ", " + words;
    }

    function draw(keep) {
      const before = keep && chart ? { min: chart.scales.x.min, max: chart.scales.x.max } : null;
      if (chart) chart.destroy();
      tip.hidden = true;
      drawn = lines();
      weigh();
      const p = data.panels[panel];
      const axis = { stroke: tone("--quiet"), grid: { stroke: tone("--rule"), width: 1 }, ticks: { stroke: tone("--rule"), width: 1 }, font: "12px " + tone("--font") };
      chart = new uPlot({
        width: Math.max(240, stage.clientWidth), height: Math.max(240, Math.min(380, stage.clientWidth * 0.45)),
        legend: { show: false }, scales: { x: { time: data.time } },
        tzDate: data.time ? s => uPlot.tzDate(new Date(s * 1000), when.zone === "UTC" ? "Etc/UTC" : when.zone) : undefined,
        axes: [
          Object.assign({}, axis, when.marks ? { values: when.marks, space: 64, size: 44 } : {}),
          Object.assign({}, axis, { label: p.title + (p.unit ? " (" + p.unit + ")" : ""), labelSize: 22, labelFont: axis.font, size: 62,
            values: (u, splits) => splits.map(v => number(v, digits)) })
        ],
        series: drawn.series, bands: drawn.bands, cursor: { points: { show: false }, drag: { x: true, y: false, dist: 6 } },
        hooks: { setCursor: [tell] }
      }, drawn.data, stage);
      legend();
      if (before) range(before.min, before.max);
    }

    stage.addEventListener("keydown", e => {
      if (!chart) return;
      const { min, max } = chart.scales.x, x = chart.data[0];
      const move = by => {
        let i = chart.cursor.idx == null ? x.findIndex(v => v >= min) : chart.cursor.idx;
        const some = k => drawn.told.some(t => t && t.y[k] != null);
        do { i += by; } while (i > 0 && i < x.length - 1 && !some(i));
        i = Math.max(0, Math.min(x.length - 1, i));
        if (x[i] < min || x[i] > max) range(x[i] - (max - min) / 2, x[i] + (max - min) / 2);
        const first = drawn.told.find(t => t && t.y[i] != null);
        chart.setCursor({ left: chart.valToPos(x[i], "x"), top: first ? chart.valToPos(first.y[i], "y") : 0 });
      };
      const keys = { ArrowLeft: () => move(-1), ArrowRight: () => move(1), "+": () => zoom(0.5), "=": () => zoom(0.5), "-": () => zoom(2), "0": whole,
        Escape: () => chart.setCursor({ left: -10, top: -10 }) };
      if (keys[e.key]) { keys[e.key](); e.preventDefault(); }
    });

    choose();
    live.append(bar, stage, keys, names, said);
    if (data.note) live.append(make("p", { className: "note" }, data.note));
    live.hidden = false;
    figure.classList.add("on");
    controls();
    toggles();
    draw();
    stage.append(tip);
    let width = stage.clientWidth;
    const fit = () => { if (Math.abs(stage.clientWidth - width) > 1 && stage.clientWidth > 0) { width = stage.clientWidth; draw(true); stage.append(tip); } };
    if (window.ResizeObserver) new ResizeObserver(fit).observe(stage);
    matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => { draw(true); mark(); });
    // For tests, and for whoever looks into the page by hand.
    figure.kairon = { range: () => [chart.scales.x.min, chart.scales.x.max], chart: () => chart, said: () => said.textContent };
  }

  function begin(figure) {
    const text = figure.querySelector("script[type='application/json']");
    if (figure.classList.contains("on") || !text || typeof uPlot === "undefined") return;
    Figure(figure, JSON.parse(text.textContent));
  }
  const figures = [...document.querySelectorAll("figure[data-live]")];
  // Drawn when they come near, so that a page of many is there at once.
  if (window.IntersectionObserver) {
    const near = new IntersectionObserver(found => found.forEach(f => { if (f.isIntersecting) { near.unobserve(f.target); begin(f.target); } }), { rootMargin: "600px" });
    figures.forEach(f => near.observe(f));
  } else figures.forEach(begin);

  // Tables sorted by a column; numbers by their size, what is missing last.
  const value = text => {
    const v = parseFloat(text.replace(/,/g, ""));
    return /^[-+−]?[\d.,]+/.test(text) && !Number.isNaN(v) && !/^\d{4}-\d/.test(text) ? v : null;
  };
  document.querySelectorAll("table").forEach(table => {
    const body = table.tBodies[0];
    if (!body || body.rows.length < 2) return;
    [...table.tHead.rows[0].cells].forEach((head, k) => {
      if ([...body.rows].every(r => r.cells[k] && r.cells[k].querySelector("svg"))) return;
      const b = make("button", { type: "button", className: "sort", title: "Sort by this column" }, head.textContent);
      head.replaceChildren(b);
      b.addEventListener("click", () => {
        const up = head.getAttribute("aria-sort") !== "ascending";
        [...table.tHead.rows[0].cells].forEach(h => h.removeAttribute("aria-sort"));
        head.setAttribute("aria-sort", up ? "ascending" : "descending");
        const rows = [...body.rows].map(r => [r.cells[k].textContent.trim(), r]);
        const numbers = rows.some(([t]) => value(t) != null) && rows.every(([t]) => t === "-" || t === "" || value(t) != null);
        rows.sort(([a], [b]) => {
          const none = t => t === "-" || t === "";
          if (none(a) || none(b)) return none(a) - none(b);
          const d = numbers ? value(a) - value(b) : a.localeCompare(b, "en", { numeric: true });
          return up ? d : -d;
        });
        body.append(...rows.map(r => r[1]));
      });
    });
  });

  // A table that is wider than the page says so.
  const wide = [...document.querySelectorAll(".wide")].map(box => {
    const more = make("p", { className: "more note" }, "The table goes on to the right.");
    box.before(more);
    const look = () => {
      const over = box.scrollWidth > box.clientWidth + 2;
      more.hidden = !over;
      if (over) { box.tabIndex = 0; box.setAttribute("role", "region"); box.setAttribute("aria-label", "A table that scrolls sideways"); }
    };
    look();
    return look;
  });
  window.addEventListener("resize", () => wide.forEach(look => look()));
  document.querySelectorAll("details").forEach(d => d.addEventListener("toggle", () => wide.forEach(look => look())));
})();
