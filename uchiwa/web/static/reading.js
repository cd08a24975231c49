"use strict";
// The reading page: what is shown, where the cursors stand, what is asked of the server. Values and rules are the server's.

document.addEventListener("alpine:init", () => {
  Alpine.data("reading", () => {
    // Kept outside Alpine's reach: these change at every frame.
    const my = {
      plan: null, view: { start: 0, end: 1 }, hidden: new Set(), spans: [], chosen: "", cursor: null, second: null,
      values: null, exactAt: null, wants: 0, loading: 0, loadTimer: 0, playing: 0, cells: [], cloud: null, spread: null, box: null, panel: "",
    };
    let strips = null, root = null, refs = null, framed = false, valueBusy = false;

    const whole = () => {
      if (my.plan.by === "speed") {
        const speed = [...strips.coarse.values()].filter((one) => one.points).flatMap((one) => [one.x.reduce((a, b) => Math.min(a, b), Infinity), one.x.reduce((a, b) => Math.max(a, b), -Infinity)]);
        return speed.length ? { start: Math.floor(Math.min(...speed) / 250) * 250, end: Math.ceil(Math.max(...speed) / 250) * 250 } : { start: 0, end: 7000 };
      }
      const starts = my.plan.logs.map((log) => log.start - log.offset), ends = my.plan.logs.map((log) => log.end - log.offset);
      return { start: Math.min(...starts), end: Math.max(Math.max(...ends), Math.min(...starts) + 0.5) };
    };
    const query = (extra = {}, show = my.plan.show) => {
      const found = new URLSearchParams();
      my.plan.logs.forEach((log) => found.append("log", log.id));
      found.set("show", show);
      if (my.plan.by !== "time") found.set("by", my.plan.by);
      my.plan.logs.forEach((log) => { if (my.plan.by !== "time") found.append("place", `${log.id}:${log.place}`); });
      Object.entries(extra).forEach(([key, value]) => { if (Array.isArray(value)) value.forEach((one) => found.append(key, one)); else if (value !== null && value !== undefined && value !== "") found.set(key, value); });
      return found;
    };
    const ask = async (path, extra) => JSON.parse(await fetchPiece(`${my.plan.address}/${path}?${query(extra)}`));
    const say = (error) => tell(error.message);
    const momentText = (moment) => (my.plan.by === "speed" ? `${Math.round(moment)} rpm` : clockText(moment, 2));
    const traces = () => my.plan.strips.flat();
    const make = (tag, className, text) => { const one = document.createElement(tag); if (className) one.className = className; if (text !== undefined) one.textContent = text; return one; };

    function remember() {
      const extra = { from: my.view.start.toFixed(3), to: my.view.end.toFixed(3) };
      if (my.cursor !== null) extra.at = my.cursor.toFixed(4);
      if (my.second !== null) extra.second = my.second.toFixed(4);
      history.replaceState(null, "", `?${query(extra, my.plan.arrangement || my.plan.show)}`);
      for (const back of document.querySelectorAll('input[name="back"]')) back.value = location.pathname + location.search;
      root.dataset.remembered = "yes";
    }
    let rememberTimer = 0;
    const rememberSoon = () => { root.dataset.remembered = "no"; clearTimeout(rememberTimer); rememberTimer = setTimeout(remember, 250); };

    // Traces
    async function load(start, end, pad) {
      const number = ++my.loading;
      const extra = { start, end, pad, fit: refs.fit.checked };
      const answer = await fetch(`${my.plan.address}/strips?${query(extra)}`, { headers: { "X-Fragment": "yes" } });
      if (!answer.ok) { const said = await answer.json().catch(() => ({ said: "The server could not be reached." })); throw new Error(said.said); }
      const data = unpackStrips(await answer.arrayBuffer());
      return number === my.loading ? data : null;
    }
    async function loadWhole() {
      const all = my.plan.by === "speed" ? { start: 0, end: 12000 } : whole();
      const data = await load(all.start, all.end, 0);
      if (data) strips.take(data, true);
      return data;
    }
    function loadSoon(wait = 70) {
      clearTimeout(my.loadTimer);
      my.loadTimer = setTimeout(async () => {
        try {
          const { start, end } = my.view;
          const data = await load(start, end, 0.5);
          if (!data) return;
          strips.take(data, false);
          draw();
          fillTable();
        } catch (error) { say(error); }
      }, wait);
    }
    function draw() {
      if (framed) return;
      framed = true;
      requestAnimationFrame(() => { framed = false; strips.redraw(); drawLanes(); moveWindow(); placeCursor(); });
    }
    function setView(start, end, quiet) {
      const all = my.all, least = my.plan.by === "speed" ? 50 : 0.05;
      let length = Math.min(Math.max(end - start, least), (all.end - all.start) * 1.0);
      let from = start + (end - start - length) / 2;
      from = Math.min(Math.max(from, all.start), all.end - length);
      my.view = { start: from, end: from + length };
      draw();
      if (!quiet && my.plan.by !== "speed") loadSoon();
      rememberSoon();
    }
    const zoom = (factor, around) => setView(around - (around - my.view.start) * factor, around + (my.view.end - around) * factor);
    const pan = (share) => { const by = (my.view.end - my.view.start) * share; setView(my.view.start + by, my.view.end + by); };
    function showMoment(start, end = start) {
      const length = my.view.end - my.view.start;
      if (end - start > length * 0.9) setView(start - (end - start) * 0.06, end + (end - start) * 0.06);
      else if (start < my.view.start + length * 0.03 || end > my.view.end - length * 0.03) setView((start + end) / 2 - length / 2, (start + end) / 2 + length / 2);
      setCursor(start);
    }

    // Cursors and values
    function placeCursor() { strips.placeLines(my.cursor, my.second, momentText); }
    function setCursor(moment, keep) {
      my.cursor = Math.min(Math.max(moment, my.all.start), my.all.end);
      placeCursor();
      roughValues();
      refs.clock.textContent = momentText(my.cursor);
      wantValues();
      if (!keep) rememberSoon();
      noteMoment();
    }
    function setSecond(moment) {
      my.second = moment;
      placeCursor();
      fillTable();
      wantValues();
      rememberSoon();
      noteMoment();
    }
    async function wantValues() {
      my.wants++;
      if (valueBusy) return;
      valueBusy = true;
      while (my.exactAt !== my.wants) {
        const number = my.wants;
        try {
          my.values = await ask("at", { key: traces().map((one) => one.key), at: my.cursor ?? my.view.start, other: my.second, table: my.panel === "table" ? refs.table?.value : "" });
          my.exactAt = number;
          if (number === my.wants) { fillTable(); showCell(); }
        } catch (error) { my.exactAt = my.wants; say(error); }
      }
      valueBusy = false;
    }
    function roughValues() {
      for (const cell of refs.values.querySelectorAll("td[data-log]")) {
        const found = strips.near(cell.dataset.log, cell.closest("tr").dataset.key, my.cursor + (my.plan.by === "speed" ? NaN : 0));
        if (found) { cell.textContent = shownNumber(found.value, Number(cell.dataset.decimals)); cell.classList.add("is-rough"); }
      }
    }
    function head(cells) {
      const row = make("tr");
      cells.forEach(([text, className, title]) => { const one = make("th", className, text); one.scope = "col"; if (title) one.title = title; row.append(one); });
      refs.values.tHead.replaceChildren(row);
    }
    function fillTable() {
      const shown = my.plan.logs.filter((log) => !my.hidden.has(log.id)), many = my.plan.logs.length > 1, pair = my.second !== null;
      const inView = refs.values.dataset.figures !== "whole";
      const columns = [[pair && !many ? "" : momentText(my.cursor ?? my.view.start), ""]];
      if (many) { shown.slice(0, 4).forEach((log) => columns.push([log.name.replace(/\.[a-z0-9]+$/i, ""), `r ink-${my.plan.logs.indexOf(log)} is-log`, log.name])); if (shown.length === 2) columns.push(["difference", "r"]); }
      else if (pair) columns.push([momentText(my.cursor ?? my.view.start), "r num"], [momentText(my.second), "r num"], ["difference", "r"]);
      else columns.push(["here", "r"], ["lowest", "r"], ["mean", "r"], ["highest", "r"]);
      if (many && pair) columns[0][0] += ` − ${momentText(my.second)}`;
      head(columns);
      const first = refs.values.tHead.rows[0].cells[0];
      if (!many && !pair) {
        const toggle = make("button", "plain link figures-toggle", inView ? "in view" : "in whole");
        toggle.type = "button";
        toggle.title = "Figures of what is in view, or of the whole log";
        toggle.addEventListener("click", () => { refs.values.dataset.figures = inView ? "whole" : "view"; fillTable(); });
        first.append(" ", toggle);
      } else if (pair && my.plan.by !== "speed") first.append(make("small", "apart", `${shownNumber(Math.abs((my.cursor ?? 0) - my.second), 3)} s apart`));
      const body = make("tbody"), passed = new Map();
      my.plan.strips.forEach((strip, number) => strip.forEach((trace, nth) => {
        const row = make("tr", nth ? "" : "is-first");
        row.dataset.key = trace.key;
        row.classList.toggle("is-chosen", my.chosen === trace.key);
        const name = make("th", "trace-name");
        name.scope = "row";
        const look = strips.look(trace.key, number, 0), swatch = make("i", "swatch");
        swatch.style.setProperty("--swatch", many ? "var(--second)" : `var(${look.ink})`);
        if (look.dash.length) swatch.classList.add(look.dash[0] < 3 ? "is-dotted" : "is-dashed");
        const button = make("button", "plain trace-button", trace.title);
        button.type = "button";
        button.title = `${trace.title}${trace.unit === "1" ? "" : `, ${shownUnit(trace.unit)}`}: h highest, l lowest, Delete takes it out`;
        name.append(swatch, button, make("small", "second", ` ${shownUnit(trace.unit)}`), controls(trace));
        row.append(name);
        const figure = (value, className = "") => { const cell = make("td", `num r ${className}`, shownNumber(value, trace.decimals)); row.append(cell); return cell; };
        const of = (log) => my.values?.logs.find((one) => one.id === log.id)?.values[trace.key];
        const here = (log) => {
          const found = of(log), cell = figure(found ? found.value : null);
          cell.dataset.log = log.id;
          cell.dataset.decimals = trace.decimals;
          if (found?.limit) { cell.classList.add("is-beyond"); cell.title = found.limit; passed.set(`${found.limit}: ${trace.title} ${shownNumber(found.value, trace.decimals)} ${shownUnit(trace.unit)}`, 1); }
          return cell;
        };
        const less = (a, b) => (a === null || a === undefined || b === null || b === undefined ? null : a - b);
        if (many) {
          if (pair) shown.slice(0, 4).forEach((log) => figure(less(of(log)?.value, of(log)?.other)));
          else shown.slice(0, 4).forEach(here);
          if (shown.length === 2) { const [a, b] = shown.map(of); const d = pair ? less(less(a?.value, a?.other), less(b?.value, b?.other)) : less(a?.value, b?.value); figure(d, "is-difference"); }
        } else {
          const log = my.plan.logs[0];
          here(log);
          if (pair) { figure(of(log)?.other); figure(less(of(log)?.value, of(log)?.other), "is-difference"); }
          else {
            const set = strips.fine?.get(`${log.id} ${trace.key}`), figures = set ? (inView ? set.view : set.whole) : null;
            ["low", "mean", "high"].forEach((one) => {
              const cell = figure(figures ? figures[one] : null, one === "mean" ? "" : "is-extreme");
              if (one !== "mean") { cell.title = "Go there"; cell.addEventListener("click", () => jumpExtreme(trace.key, one === "high" ? "highest" : "lowest")); }
            });
          }
        }
        button.addEventListener("click", () => choose(trace.key));
        if (trace.missing[my.plan.logs[0].id] && !many) { [...row.querySelectorAll("td")].slice(1).forEach((cell) => cell.remove()); const cell = row.querySelector("td"); cell.colSpan = 4; cell.className = "second is-missing"; cell.textContent = trace.missing[my.plan.logs[0].id]; delete cell.dataset.log; }
        body.append(row);
      }));
      refs.values.tBodies[0].replaceWith(body);
      refs.passed.replaceChildren(...[...passed.keys()].map((words) => make("span", "is-passed", words)));
    }
    function controls(trace) {
      const box = make("span", "trace-controls");
      [["▴", "up", "Move it a strip up"], ["▾", "down", "Move it a strip down"], ["×", "remove", "Take it out"]].forEach(([text, act, title]) => {
        const one = make("button", "plain", text);
        one.type = "button";
        one.title = title;
        one.setAttribute("aria-label", `${title}: ${trace.title}`);
        one.addEventListener("click", () => arrange(act, trace.key));
        box.append(one);
      });
      return box;
    }
    function choose(key) {
      my.chosen = my.chosen === key ? "" : key;
      fillTable();
      draw();
    }
    async function jumpExtreme(key, which) {
      if (!key) { my.chosen = traces()[0].key; return jumpExtreme(my.chosen, which); }
      try {
        const found = await ask("extreme", { key, which });
        my.chosen = key;
        showMoment(found.at);
        fillTable();
      } catch (error) { say(error); }
      return undefined;
    }

    // Arrangements and logs
    async function reload(show, changes = {}) {
      root.dataset.ready = "no";
      const found = query({}, show);
      Object.entries(changes).forEach(([key, value]) => { found.delete(key); (Array.isArray(value) ? value : [value]).forEach((one) => found.append(key, one)); });
      try {
        const plan = JSON.parse(await fetchPiece(`${my.plan.address}?${found}`));
        const moved = plan.by !== my.plan.by || "place" in changes || "log" in changes;
        my.plan = plan;
        my.hidden = new Set([...my.hidden].filter((id) => plan.logs.some((log) => log.id === id)));
        await begin(moved ? null : my.view);
      } catch (error) { root.dataset.ready = "yes"; say(error); }
    }
    async function arrange(act, key) {
      try { await reload((await ask("arrange", { do: act, key })).show); } catch (error) { say(error); }
    }
    function fillPurposes() {
      refs.kept.replaceChildren(...my.plan.kept.map((name) => { const one = make("option", "", name); one.value = name; return one; }));
      refs.kept.hidden = !my.plan.kept.length;
      refs.purpose.value = my.plan.arrangement;
      refs.dropButton.hidden = !my.plan.kept.includes(my.plan.arrangement);
      for (const select of root.querySelectorAll(".cloud-form select")) {
        const before = select.value, all = JSON.parse(root.dataset.traces || "null") || traces();
        select.replaceChildren(...(select.name === "colour" ? [new Option("nothing", "")] : []), ...all.map((one) => new Option(one.title, one.key)));
        if (before) select.value = before;
      }
    }
    function fillLogs() {
      const many = my.plan.logs.length > 1;
      refs.logs.replaceChildren(...my.plan.logs.map((log, number) => {
        const chip = make("li", `log-chip ink-${number}`);
        const swatch = make("button", "swatch-button");
        swatch.type = "button";
        swatch.setAttribute("aria-pressed", my.hidden.has(log.id) ? "false" : "true");
        swatch.setAttribute("aria-label", `${my.hidden.has(log.id) ? "Show" : "Hide"} ${log.name}`);
        swatch.title = my.hidden.has(log.id) ? "Show it again" : "Hide it without closing it";
        swatch.append(make("i", "swatch"));
        swatch.addEventListener("click", () => { if (my.hidden.has(log.id)) my.hidden.delete(log.id); else my.hidden.add(log.id); fillLogs(); fillTable(); draw(); });
        const name = make("a", "", log.name);
        name.href = `${my.plan.address.replace(/\/read$/, "")}/logs?show=${log.id}`;
        name.title = [log.words, log.revision, `round ${log.round}`].filter(Boolean).join(" · ");
        chip.classList.toggle("is-hidden", my.hidden.has(log.id));
        if (many) chip.append(swatch);
        chip.append(name);
        if (many && my.plan.by === "time") chip.append(make("small", "second", ` round ${log.round}`));
        if (log.places.length > 1) {
          const places = make("select", "place");
          places.setAttribute("aria-label", `Where ${log.name} is laid`);
          places.append(...log.places.map((one, at) => new Option(one.words, at)));
          places.value = log.place;
          places.addEventListener("change", () => reload(my.plan.show, { place: my.plan.logs.map((one) => `${one.id}:${one.id === log.id ? places.value : one.place}`) }));
          chip.append(places);
        } else if (my.plan.by !== "time") chip.append(make("small", "second", ` ${log.places.length ? log.places[0].words : my.plan.by === "marker" ? "no marker" : "no pull"}`));
        if (many) {
          const close = make("button", "plain", "×");
          close.type = "button";
          close.setAttribute("aria-label", `Close ${log.name}`);
          close.addEventListener("click", () => reload(my.plan.show, { log: my.plan.logs.filter((one) => one.id !== log.id).map((one) => one.id) }));
          chip.append(close);
        }
        return chip;
      }));
      refs.byLabel.hidden = !many && my.plan.by === "time" && !my.plan.logs[0].drives.some((one) => one.kind.includes("pull") || one.kind.includes("roll"));
      refs.by.value = my.plan.by;
      const here = new Set(my.plan.logs.map((log) => String(log.id)));
      [...refs.beside.options].forEach((one) => { one.hidden = here.has(one.value); });
    }

    // Lanes and overview
    const events = () => my.plan.logs.filter((log) => !my.hidden.has(log.id)).slice(0, 1).flatMap((log) => [
      ...log.drives.map((one) => ({ kind: "drive", start: one.start - log.offset, end: one.end - log.offset, words: one.title, more: one.note })),
      ...log.findings.flatMap((one) => one.spans.map(([start, end]) => ({ kind: `finding is-${one.severity}`, start: start - log.offset, end: end - log.offset, words: one.words, more: `${one.severity}, ${one.rule}` }))),
      ...log.markers.map((at, number) => ({ kind: "marker", start: at - log.offset, end: at - log.offset, words: `marker ${number + 1}`, more: "" })),
      ...log.notes.map((one) => ({ kind: "note", start: one.start - log.offset, end: one.end - log.offset, words: one.text, more: one.author, id: one.id })),
    ]).sort((a, b) => a.start - b.start || a.end - b.end);
    function bars(place, view, rows) {
      const width = place.clientWidth - 2 * GUTTER, length = view.end - view.start, drawn = [];
      const list = my.plan.by === "speed" ? [] : events();
      for (const one of list) {
        if (one.end < view.start || one.start > view.end) continue;
        const a = Math.max(0, (one.start - view.start) / length) * width, b = Math.min(1, (one.end - view.start) / length) * width;
        const bar = make(rows ? "button" : "i", `bar is-${one.kind}`);
        if (rows) { bar.type = "button"; bar.tabIndex = -1; }
        bar.style.left = `${GUTTER + a}px`;
        bar.style.width = `${Math.max(b - a, one.kind === "drive" ? 2 : 3)}px`;
        bar.title = `${one.words}${one.more ? ` (${one.more})` : ""}, ${clockText(one.start, 1)}${one.end > one.start ? ` to ${clockText(one.end, 1)}` : ""}`;
        if (one.kind === "drive") {
          const wide = 6.2 * one.words.length + 8, shorter = list.filter((other) => other.kind === "drive" && other.end - other.start < one.end - one.start);
          const free = !shorter.some((other) => other.end > one.start && other.start < Math.max(one.start, view.start) + (wide / width) * length);
          bar.style.zIndex = String(500 - Math.min(499, Math.round(one.end - one.start)));
          if (rows && free && b - a > wide) bar.textContent = one.words;
        }
        if (rows) bar.addEventListener("click", () => { showMoment(one.start, one.end); strips.hit.focus(); });
        drawn.push(bar);
      }
      place.replaceChildren(...drawn);
      if (rows) place.prepend(make("b", "lane-name", "drives"), make("b", "lane-name is-low", "found"));
    }
    let laneKey = "";
    function drawLanes() {
      const key = `${my.view.start} ${my.view.end} ${refs.lanes.clientWidth} ${my.plan.logs.map((one) => one.notes.length)} ${[...my.hidden]}`;
      if (key === laneKey) return;
      laneKey = key;
      bars(refs.lanes, my.view, true);
    }
    function drawOverview() {
      bars(refs.overview, my.all, false);
      const canvas = make("canvas"), width = refs.overview.clientWidth - 2 * GUTTER, height = refs.overview.clientHeight, ratio = window.devicePixelRatio || 1;
      canvas.width = width * ratio; canvas.height = height * ratio;
      canvas.style.width = `${width}px`;
      canvas.style.left = `${GUTTER}px`;
      const context = canvas.getContext("2d"), first = strips.coarse.get(`${my.plan.logs[0].id} ${traces()[0].key}`);
      if (first && first.points && first.whole.low !== null) {
        const { low, high } = first.whole;
        context.strokeStyle = inkOf("--second");
        context.globalAlpha = 0.75;
        context.lineWidth = ratio * 0.8;
        context.beginPath();
        for (let at = 0; at < first.points; at++) {
          const x = ((first.x[at] + first.origin - my.all.start) / (my.all.end - my.all.start)) * canvas.width, y = canvas.height * (0.94 - 0.86 * ((first.y[at] - low) / (high - low || 1)));
          if (at && first.y[at] === first.y[at]) context.lineTo(x, y); else context.moveTo(x, y);
        }
        context.stroke();
      }
      refs.overview.append(canvas, make("div", "window"));
      moveWindow();
    }
    function moveWindow() {
      const box = refs.overview.querySelector(".window"), width = refs.overview.clientWidth - 2 * GUTTER, length = my.all.end - my.all.start;
      if (!box) return;
      box.style.left = `${GUTTER + ((my.view.start - my.all.start) / length) * width}px`;
      box.style.width = `${Math.max(3, ((my.view.end - my.view.start) / length) * width)}px`;
    }
    function listMoments() {
      const list = events();
      refs.moments.replaceChildren(...(list.length ? list.map((one) => {
        const row = make("li", `is-${one.kind}`), button = make("button", "plain");
        button.type = "button";
        button.append(make("span", "num", clockText(one.start, one.end - one.start < 60 ? 1 : 0)), make("i", "bar-mark"), make("b", "", one.words));
        if (one.more) button.append(make("small", "second", one.more));
        button.addEventListener("click", () => { showMoment(one.start, one.end); });
        row.append(button);
        return row;
      }) : [make("li", "second", "No drive, finding, marker or note in this log.")]));
      listNotes();
    }
    function listNotes() {
      refs.notes.replaceChildren(...my.plan.logs.flatMap((log) => log.notes.map((note) => {
        const row = make("li", "is-note"), go = make("button", "plain"), foot = make("span", "note-foot second");
        go.type = "button";
        go.append(make("span", "num", clockText(note.start, 1)), make("b", "", note.text));
        go.addEventListener("click", () => showMoment(note.start - log.offset, note.end - log.offset));
        const link = make("a", "", "link");
        link.href = `${my.plan.address}?log=${log.id}&note=${note.id}`;
        const show = make("button", "plain link", note.shown ? "shown to the customer: hide it" : "show it to the customer");
        const drop = make("button", "plain link", "take away");
        [show, drop].forEach((one) => { one.type = "button"; });
        show.addEventListener("click", () => changeNote(log, note, note.shown ? "hide" : "show"));
        drop.addEventListener("click", () => changeNote(log, note, "drop"));
        foot.append(`${note.author} · `, link, " · ", show, " · ", drop);
        row.append(go, foot);
        return row;
      })));
    }
    async function changeNote(log, note, act) {
      const body = new FormData();
      body.set("do", act);
      try {
        log.notes = JSON.parse(await fetchPiece(`${my.plan.address}/notes/${log.id}/${note.id}`, { body }));
        laneKey = "";
        listMoments();
        draw();
      } catch (error) { say(error); }
    }
    function noteMoment() {
      if (my.plan.by === "speed" || my.cursor === null) { refs.noteAt.textContent = ""; return; }
      const ends = my.second === null ? [my.cursor] : [Math.min(my.cursor, my.second), Math.max(my.cursor, my.second)];
      refs.noteAt.textContent = ends.length > 1 ? `from ${momentText(ends[0])} to ${momentText(ends[1])}` : `at ${momentText(ends[0])}`;
    }

    // The table
    const map = () => root.querySelector(`.map[data-table="${CSS.escape(refs.table?.value || "")}"]`);
    function showCell() {
      const place = map();
      if (!place || my.panel !== "table") return;
      const log = my.values?.logs.find((one) => !my.hidden.has(one.id)) || my.values?.logs[0], cell = log?.cell, dot = place.querySelector(".map-dot"), trail = place.querySelector(".map-trail"), line = trail.firstElementChild;
      place.querySelectorAll("td.is-here").forEach((one) => one.classList.remove("is-here"));
      const columns = Number(place.dataset.columns), rows = Number(place.dataset.rows);
      trail.setAttribute("viewBox", `0 0 ${columns} ${rows}`);
      const points = cell?.trail?.map(([i, j]) => [i + 0.5, rows - 0.5 - j]) || [];
      line.setAttribute("points", points.map((one) => one.join(",")).join(" "));
      line.setAttribute("vector-effect", "non-scaling-stroke");
      const grid = place.querySelector("tbody"), headWidth = grid.rows[0].cells[0].offsetWidth;
      trail.style.left = `${headWidth}px`;
      trail.style.width = `${grid.offsetWidth - headWidth}px`;
      trail.style.height = `${grid.offsetHeight}px`;
      dot.hidden = !points.length;
      if (points.length) {
        const [x, y] = points[points.length - 1];
        dot.style.left = `${headWidth + (x / columns) * (grid.offsetWidth - headWidth)}px`;
        dot.style.top = `${(y / rows) * grid.offsetHeight}px`;
      }
      if (!cell) { sayMap(my.plan.by === "speed" ? "Aligned by engine speed there is no one moment to show." : "No reading here."); return; }
      if (cell.problem) { sayMap(cell.problem); return; }
      if (cell.i !== null) place.querySelector(`td[data-i="${cell.i}"][data-j="${cell.j}"]`)?.classList.add("is-here");
      const at = `${shownNumber(cell.x, place.dataset.x === "rpm" ? 0 : 1)} ${shownUnit(place.dataset.x)}${cell.y === null ? "" : ` × ${shownNumber(cell.y, place.dataset.y === "1" ? 3 : 1)} ${shownUnit(place.dataset.y)}`}`;
      sayMap(`${at}: ${shownNumber(cell.value, Number(place.dataset.decimals))} ${shownUnit(place.dataset.unit)}${cell.i === null ? ", off the table" : ""}`);
    }
    let mapChosen = "";
    function sayMap(text) { refs.mapSaid.replaceChildren(make("span", "num", text), ...(mapChosen ? [make("br"), mapChosen] : [])); }
    async function chooseCells(cells) {
      my.cells = cells;
      const place = map();
      place.querySelectorAll("td").forEach((one) => { one.classList.toggle("is-picked", cells.includes(`${one.dataset.i}.${one.dataset.j}`)); });
      if (!cells.length) { mapChosen = ""; my.spans = []; draw(); showCell(); return; }
      try {
        const found = await ask("cells", { table: refs.table.value, cells: cells.join(" ") });
        my.spans = found.spans;
        mapChosen = found.count ? `${cells.length === 1 ? "This cell" : `${cells.length} cells`}: ${found.count} ${found.count === 1 ? "moment" : "moments"}, ${found.seconds.toFixed(1)} s, shaded on the strips.` : "The engine was never here in this log.";
        draw();
        showCell();
      } catch (error) { say(error); }
    }

    // Pointer
    function listen() {
      const hit = strips.hit, fingers = new Map();
      let press = null, pinch = null;
      hit.addEventListener("pointermove", (event) => {
        if (fingers.has(event.pointerId)) fingers.set(event.pointerId, event.clientX);
        if (pinch && fingers.size === 2) {
          const [a, b] = [...fingers.values()], apart = Math.max(20, Math.abs(a - b));
          zoom(pinch / apart, strips.toTime((a + b) / 2));
          pinch = apart;
          return;
        }
        if (press && (press.moved || Math.abs(event.clientX - press.x) > 4)) {
          press.moved = true;
          if (press.select) { select(press.x, event.clientX); return; }
          const length = press.view.end - press.view.start, by = ((press.x - event.clientX) / hit.clientWidth) * length;
          setView(press.view.start + by, press.view.end + by);
          hit.classList.add("is-panning");
          return;
        }
        if (!press && !my.playing) { const moment = strips.toTime(event.clientX); cancelAnimationFrame(my.moveFrame); my.moveFrame = requestAnimationFrame(() => setCursor(moment)); }
      });
      hit.addEventListener("pointerdown", (event) => {
        if (event.button) return;
        hit.setPointerCapture(event.pointerId);
        hit.focus({ preventScroll: true });
        fingers.set(event.pointerId, event.clientX);
        pinch = fingers.size === 2 ? Math.max(20, Math.abs([...fingers.values()][0] - [...fingers.values()][1])) : null;
        press = { x: event.clientX, view: { ...my.view }, moved: false, select: event.shiftKey };
      });
      const release = (event) => {
        fingers.delete(event.pointerId);
        hit.classList.remove("is-panning");
        if (!press) return;
        const was = press;
        press = null;
        pinch = null;
        if (was.select && was.moved) { select(null); const [a, b] = [strips.toTime(was.x), strips.toTime(event.clientX)].sort((x, y) => x - y); setView(a, b); }
        else if (!was.moved) { const moment = strips.toTime(event.clientX); if (event.shiftKey) setSecond(moment); else setCursor(moment); }
      };
      hit.addEventListener("pointerup", release);
      hit.addEventListener("pointercancel", () => { press = null; pinch = null; fingers.clear(); hit.classList.remove("is-panning"); select(null); });
      hit.addEventListener("wheel", (event) => {
        event.preventDefault();
        if (Math.abs(event.deltaX) > Math.abs(event.deltaY) || event.shiftKey) { pan(((event.deltaX || event.deltaY) / hit.clientWidth) * 1.4); return; }
        zoom(Math.exp(Math.min(Math.max(event.deltaY, -240), 240) / 420), strips.toTime(event.clientX));
      }, { passive: false });
      hit.addEventListener("dblclick", () => { my.view = { ...my.all }; setView(my.all.start, my.all.end); });
    }
    let band = null;
    function select(from, to) {
      if (from === null) { if (band) band.remove(); band = null; return; }
      if (!band) { band = make("div", "line-select"); refs.strips.append(band); }
      const left = refs.strips.getBoundingClientRect().left;
      band.style.left = `${Math.min(from, to) - left}px`;
      band.style.width = `${Math.abs(to - from)}px`;
    }
    function listenOverview() {
      let from = null;
      const at = (event) => { const box = refs.overview.getBoundingClientRect(); return my.all.start + Math.min(Math.max((event.clientX - box.left - GUTTER) / (box.width - 2 * GUTTER), 0), 1) * (my.all.end - my.all.start); };
      refs.overview.addEventListener("pointerdown", (event) => { from = { moment: at(event), x: event.clientX }; refs.overview.setPointerCapture(event.pointerId); });
      refs.overview.addEventListener("pointermove", (event) => { if (from && Math.abs(event.clientX - from.x) > 4) setView(Math.min(from.moment, at(event)), Math.max(from.moment, at(event))); });
      refs.overview.addEventListener("pointerup", (event) => {
        if (from && Math.abs(event.clientX - from.x) <= 4) { const half = (my.view.end - my.view.start) / 2; setView(from.moment - half, from.moment + half); setCursor(from.moment); }
        from = null;
      });
    }
    function listenCloud() {
      const canvas = refs.cloud;
      let from = null;
      canvas.addEventListener("pointerdown", (event) => { if (!my.cloud) return; from = cloudValue(canvas, my.cloud, event.clientX, event.clientY); canvas.setPointerCapture(event.pointerId); });
      canvas.addEventListener("pointermove", (event) => {
        if (!from) return;
        const to = cloudValue(canvas, my.cloud, event.clientX, event.clientY);
        my.box = [from[0], to[0], from[1], to[1]];
        drawCloudPicture(canvas, my.cloud, my.box);
      });
      canvas.addEventListener("pointerup", (event) => {
        if (!from) return;
        const to = cloudValue(canvas, my.cloud, event.clientX, event.clientY), small = Math.abs(to[0] - from[0]) < (my.cloud.x_range[1] - my.cloud.x_range[0]) * 0.008;
        from = null;
        if (small) { my.box = null; my.spans = []; cloudWords(); draw(); } else brush();
        drawCloudPicture(canvas, my.cloud, my.box);
      });
    }
    const cloudAsked = (form) => {
      const fields = Object.fromEntries(new FormData(form));
      const asked = { x: fields.x, y: fields.y, colour: fields.colour, where: fields.where };
      if (fields.inview && my.plan.by !== "speed") { asked.start = my.view.start; asked.end = my.view.end; }
      return asked;
    };
    async function brush() {
      try {
        const found = await ask("brush", { ...cloudAsked(refs.cloudForm), box: my.box });
        my.spans = found.spans;
        cloudWords(`${found.samples.toLocaleString("en").replaceAll(",", " ")} samples in the frame, ${found.seconds.toFixed(1)} s in ${found.count} ${found.count === 1 ? "moment" : "moments"}, shaded on the strips.`);
        draw();
      } catch (error) { say(error); }
    }
    function cloudWords(more) {
      const data = my.cloud, colour = refs.cloudForm.elements.colour;
      const words = [`${data.samples.toLocaleString("en").replaceAll(",", " ")} samples. `];
      if (!colour.value) words.push("The darker, the more samples. ");
      words.push(more || "Drag a frame to find its moments.");
      refs.cloudSaid.textContent = words.join("");
      if (!colour.value) return;
      const scale = make("span", "cloud-scale"), ends = data.colour_range.map((one) => Number(one.toPrecision(3)).toString().replace("-", "−"));
      scale.append(make("b", "", `${colour.selectedOptions[0].text} `), make("span", "num", `${ends[0]} or less `), ...cloudShades().map((shade) => { const one = make("i"); one.style.background = shade; return one; }), make("span", "num", ` ${ends[1]} or more`));
      refs.cloudSaid.prepend(scale);
    }

    function placed() {
      if (my.plan.by !== "pull" && my.plan.by !== "marker") return null;
      const found = my.plan.logs.filter((log) => log.places.length).map((log) => log.places[log.place]);
      if (!found.length) return null;
      const length = Math.max(8, ...found.map((one) => one.end - one.start));
      return { start: Math.max(my.all.start, -0.25 * length), end: Math.min(my.all.end, 1.25 * length) };
    }
    async function begin(view) {
      root.dataset.ready = "no";
      my.all = whole();
      fillLogs();
      fillPurposes();
      strips.build();
      await loadWhole();
      my.all = whole();
      my.view = view || placed() || { ...my.all };
      laneKey = "";
      drawOverview();
      listMoments();
      if (my.cursor !== null) my.cursor = Math.min(Math.max(my.cursor, my.all.start), my.all.end);
      fillTable();
      draw();
      if (my.view.start > my.all.start || my.view.end < my.all.end) loadSoon(0);
      wantValues();
      rememberSoon();
      root.dataset.ready = "yes";
    }

    return {
      async init() {
        root = this.$root;
        refs = this.$refs;
        my.plan = JSON.parse(root.dataset.plan);
        strips = new Strips(refs.strips, my);
        window.readingQuery = () => String(query());
        refs.add.addEventListener("taken", (event) => arrange("add", event.detail.key));
        const given = new URLSearchParams(location.search);
        my.second = given.has("second") ? Number(given.get("second")) : null;
        if (given.has("at")) my.cursor = Number(given.get("at"));
        const note = my.plan.logs.flatMap((log) => log.notes.map((one) => ({ ...one, log }))).find((one) => String(one.id) === given.get("note"));
        const from = Number(given.get("from")), to = Number(given.get("to"));
        try {
          await document.fonts.load('11px "Plex Mono"');
          my.all = whole();
          my.view = given.has("from") && to > from ? { start: from, end: to } : { ...my.all };
          await begin(given.has("from") && to > from ? my.view : null);
          performance.mark("first strips");
          listen();
          listenOverview();
          listenCloud();
          if (note) { showMoment(note.start - note.log.offset, note.end - note.log.offset); setView(my.cursor - 15, my.cursor + 15); this.panelNamed("notes"); }
          else this.panelNamed(localStorage.getItem("uchiwa-reading-panel") || "table");
          refs.clock.textContent = momentText(my.cursor ?? my.view.start);
        } catch (error) { say(error); }
        new ResizeObserver(() => {
          if (strips.size === strips.measured()) return;
          strips.build();
          drawOverview();
          laneKey = "";
          draw();
        }).observe(refs.strips);
      },
      layBeside() {
        const id = refs.beside.value;
        refs.beside.value = "";
        if (!id) return undefined;
        const baseline = my.plan.logs.length === 1 && my.plan.by === "time" && my.plan.logs[0].drives.some((one) => one.kind.includes("pull"));
        return reload(my.plan.show, { log: [...my.plan.logs.map((one) => one.id), id], ...(baseline ? { by: "pull" } : {}) });
      },
      align() { return reload(my.plan.show, { by: refs.by.value, place: [] }); },
      choosePurpose() { return refs.purpose.value ? reload(refs.purpose.value) : undefined; },
      async keepArrangement() {
        const body = new FormData();
        body.set("name", refs.keepName.value);
        body.set("show", my.plan.show);
        try { const found = JSON.parse(await fetchPiece(`${my.plan.address}/keep`, { body })); refs.keepName.value = ""; await reload(found.name); } catch (error) { say(error); }
      },
      async dropArrangement() {
        const body = new FormData();
        body.set("name", my.plan.arrangement);
        body.set("drop", "yes");
        try { await fetchPiece(`${my.plan.address}/keep`, { body }); await reload(my.plan.show); } catch (error) { say(error); }
      },
      fitAxes() { loadSoon(0); },
      wholeView() { setView(my.all.start, my.all.end); },
      async seek(direction) {
        const condition = refs.condition.value.trim();
        if (!condition) { my.spans = []; refs.hits.textContent = ""; draw(); return; }
        try {
          const found = await ask("moment", { condition, at: my.cursor ?? my.view.start - 1e-3, direction });
          my.spans = found.spans;
          refs.hits.textContent = found.count ? `${found.number ?? (direction === "next" ? "none after" : "none before")}${found.number ? " of" : ", of"} ${found.count}, ${found.seconds.toFixed(1)} s` : "never in this log";
          refs.condition.removeAttribute("aria-invalid");
          if (found.at !== null) showMoment(found.at, Math.min(found.until, found.at + (my.view.end - my.view.start) * 0.8));
          draw();
        } catch (error) {
          refs.hits.textContent = error.what || error.message;
          refs.hits.title = error.message;
          refs.condition.setAttribute("aria-invalid", "true");
          if (error.what) refs.condition.setSelectionRange(error.position, error.position + error.length);
        }
      },
      nextMoment() { return this.seek("next"); },
      previousMoment() { return this.seek("previous"); },
      play() {
        if (my.playing) { cancelAnimationFrame(my.playing); my.playing = 0; refs.play.textContent = "▶"; refs.play.setAttribute("aria-pressed", "false"); remember(); return; }
        if (my.cursor === null || my.cursor >= my.all.end - 1e-6) setCursor(my.view.start, true);
        refs.play.textContent = "❚❚";
        refs.play.setAttribute("aria-pressed", "true");
        let before = performance.now();
        const step = (now) => {
          const by = ((now - before) / 1000) * Number(refs.speed.value) * (my.plan.by === "speed" ? 500 : 1);
          before = now;
          const moment = my.cursor + by, length = my.view.end - my.view.start;
          if (moment > my.view.end - length * 0.08 && my.view.end < my.all.end) setView(moment - length * 0.2, moment + length * 0.8);
          setCursor(moment, true);
          if (my.cursor >= my.all.end) { my.playing = 1; this.play(); return; }
          my.playing = requestAnimationFrame(step);
        };
        my.playing = requestAnimationFrame(step);
      },
      panelNamed(name) {
        const buttons = [...refs.tabs.querySelectorAll("button")], found = buttons.some((one) => one.dataset.panel === name) ? name : buttons[0].dataset.panel;
        my.panel = found;
        buttons.forEach((one) => { one.classList.toggle("is-on", one.dataset.panel === found); one.setAttribute("aria-pressed", one.dataset.panel === found ? "true" : "false"); });
        root.querySelectorAll(".panel").forEach((one) => { one.hidden = one.dataset.panel !== found; });
        localStorage.setItem("uchiwa-reading-panel", found);
        if (found === "table") { this.chooseTable(); }
        if (found === "scatter" && !my.cloud) this.firstCloud();
        if (found === "distribution" && !my.spread) this.drawSpread();
      },
      openPanel(event) { this.panelNamed(event.target.dataset.panel); },
      chooseTable() {
        root.querySelectorAll(".map").forEach((one) => { one.hidden = one.dataset.table !== refs.table.value; });
        mapChosen = "";
        if (my.cells.length) chooseCells([]);
        wantValues();
      },
      chooseCell(event) {
        const cell = event.target.closest("td");
        if (!cell) return;
        const name = `${cell.dataset.i}.${cell.dataset.j}`;
        const cells = event.shiftKey ? (my.cells.includes(name) ? my.cells.filter((one) => one !== name) : [...my.cells, name]) : my.cells.length === 1 && my.cells[0] === name ? [] : [name];
        map().querySelectorAll("td").forEach((one) => { one.tabIndex = one === cell ? 0 : -1; });
        chooseCells(cells);
      },
      cellKey(event) {
        const steps = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }, cell = event.target.closest("td");
        if (!cell) return;
        event.stopPropagation();
        if (event.key === "Enter" || event.key === " ") { event.preventDefault(); this.chooseCell(event); return; }
        if (event.key === "Escape") { chooseCells([]); return; }
        if (!steps[event.key]) return;
        event.preventDefault();
        const next = map().querySelector(`td[data-i="${Number(cell.dataset.i) + steps[event.key][0]}"][data-j="${Number(cell.dataset.j) + steps[event.key][1]}"]`);
        if (next) { cell.tabIndex = -1; next.tabIndex = 0; next.focus(); }
      },
      firstCloud() {
        const form = refs.cloudForm.elements, has = (key) => [...form.x.options].some((one) => one.value === key);
        form.x.value = has("engine_speed") ? "engine_speed" : form.x.options[0].value;
        const up = ["manifold_pressure", "airflow", "throttle_position"].find(has);
        if (up) form.y.value = up;
        const third = ["fuel_error", "lambda_measured", "spark_advance"].find(has);
        if (third) form.colour.value = third;
        return this.drawCloud();
      },
      async drawCloud() {
        try {
          my.cloud = await ask("scatter", cloudAsked(refs.cloudForm));
          my.box = null;
          drawCloudPicture(refs.cloud, my.cloud, null);
          cloudWords();
        } catch (error) { refs.cloudSaid.textContent = error.message; }
      },
      async drawSpread() {
        try {
          my.spread = await ask("distribution", cloudAsked(refs.spreadForm));
          drawSpreadPicture(refs.spread, my.spread);
          const q = my.spread.quantiles, show = (value) => Number(value.toPrecision(4));
          refs.spreadSaid.textContent = `${my.spread.total.toFixed(1)} s in all. Half of the time between ${show(q["25%"])} and ${show(q["75%"])}, 90 % between ${show(q["5%"])} and ${show(q["95%"])}; median ${show(q["50%"])}, mean ${show(my.spread.mean)}.`;
        } catch (error) { refs.spreadSaid.textContent = error.message; }
      },
      async writeNote() {
        const log = my.plan.logs[0], body = new FormData(), at = (my.cursor ?? my.view.start) + log.offset, other = my.second === null ? at : my.second + log.offset;
        body.set("start", at);
        body.set("end", other);
        body.set("text", refs.noteText.value);
        if (refs.noteShown.checked) body.set("shown", "yes");
        try {
          log.notes = JSON.parse(await fetchPiece(`${my.plan.address}/notes/${log.id}`, { body }));
          refs.noteText.value = "";
          laneKey = "";
          listMoments();
          drawOverview();
          draw();
        } catch (error) { say(error); }
      },
      key(event) {
        const typing = event.target.matches("input, textarea, select");
        if (typing) {
          if (event.target === refs.condition && event.key === "Enter" && event.shiftKey) { event.preventDefault(); this.previousMoment(); }
          if (event.key === "Escape") strips.hit.focus();
          return;
        }
        if (event.metaKey || event.altKey || (event.ctrlKey && !event.key.startsWith("Arrow"))) return;
        const step = my.plan.by === "speed" ? 10 : my.plan.logs[0].step, at = my.cursor ?? my.view.start;
        const act = {
          ArrowLeft: () => (event.shiftKey ? pan(-0.2) : this.nudge(at - step * (event.ctrlKey ? 20 : 1))),
          ArrowRight: () => (event.shiftKey ? pan(0.2) : this.nudge(at + step * (event.ctrlKey ? 20 : 1))),
          ArrowUp: () => this.stepTrace(-1), ArrowDown: () => this.stepTrace(1),
          Home: () => this.nudge(my.all.start), End: () => this.nudge(my.all.end),
          "+": () => zoom(0.6, at), "=": () => zoom(0.6, at), "-": () => zoom(1 / 0.6, at), 0: () => this.wholeView(),
          b: () => setSecond(at), Escape: () => { if (my.spans.length) { my.spans = []; draw(); } else setSecond(null); },
          h: () => jumpExtreme(my.chosen, "highest"), l: () => jumpExtreme(my.chosen, "lowest"),
          ".": () => this.stepEvent(1), ",": () => this.stepEvent(-1), " ": () => this.play(),
          "/": () => refs.add.focus(), w: () => refs.condition.focus(),
          Delete: () => { if (my.chosen) arrange("remove", my.chosen); },
        }[event.key];
        if (!act || (event.target.matches("button, summary, a") && [" ", "Enter"].includes(event.key))) return;
        event.preventDefault();
        act();
      },
      nudge(moment) { showMoment(Math.min(Math.max(moment, my.all.start), my.all.end)); },
      stepTrace(by) {
        const all = traces().map((one) => one.key), at = all.indexOf(my.chosen);
        my.chosen = all[(at + by + all.length + (at < 0 && by < 0 ? 1 : 0)) % all.length];
        fillTable();
        draw();
      },
      stepEvent(by) {
        const at = my.cursor ?? my.view.start, list = events(), starts = list.map((one) => one.start);
        const next = by > 0 ? list.find((one) => one.start > at + 1e-3) : list[starts.filter((one) => one < at - 1e-3).length - 1];
        if (next) { showMoment(next.start, next.end); refs.hits.textContent = next.words; }
      },
    };
  });
});
