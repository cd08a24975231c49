"use strict";
// Sends files in pieces; one that broke off goes on where it stopped when the same file is chosen again.

const PIECE = 1048576;
const TRIES = 4;

async function ask(address, options) {
  for (let tries = 1; ; tries++) {
    try {
      const answer = await fetch(address, { ...options, headers: { "X-Fragment": "yes", "X-CSRF": csrf(), "Content-Type": "application/octet-stream" } });
      let data = {};
      const text = await answer.text();
      try { data = JSON.parse(text); } catch { data.said = text; }
      if (answer.ok) return data;
      if (answer.status < 500 || tries === TRIES) throw Object.assign(new Error(data.said || "The upload was not taken."), { final: true });
    } catch (error) {
      if (error.final || tries === TRIES) throw error.final ? error : new Error("The connection broke off. Nothing is lost: choose the same file again and it goes on.");
    }
    await new Promise((resolve) => setTimeout(resolve, 600 * tries));
  }
}

window.sendFile = async function sendFile(base, file, tell) {
  const query = { name: file.name, size: file.size, changed: file.lastModified };
  let at = (await ask(`${base}/pieces?${new URLSearchParams(query)}`, {})).received;
  for (;;) {
    const body = file.slice(at, at + PIECE - (at % PIECE));
    const answer = await ask(`${base}/pieces?${new URLSearchParams({ ...query, start: at })}`, { method: "POST", body });
    at = answer.received;
    tell(file.size ? (100 * at) / file.size : 100);
    if (answer.done) return answer.said;
  }
};

window.sendFiles = async function sendFiles(base, files, list) {
  let bad = false;
  for (const file of files) {
    const line = document.createElement("li");
    const bar = document.createElement("progress");
    bar.max = 100;
    bar.value = 0;
    line.append(file.name, bar);
    list.append(line);
    try {
      const said = await window.sendFile(base, file, (share) => { bar.value = share; });
      bar.remove();
      if (said) { line.textContent = said; bad = true; } else line.remove();
    } catch (error) {
      bad = true;
      bar.remove();
      line.className = "plain-words";
      line.textContent = `${file.name}: ${error.message}`;
    }
  }
  return !bad;
};

document.addEventListener("alpine:init", () => {
  Alpine.data("customer", () => ({
    timer: null,
    init() { this.follow(); },
    over() { document.body.classList.add("is-over-page"); },
    dropped(event) {
      document.body.classList.remove("is-over-page");
      this.send([...event.dataTransfer.files]);
    },
    chosen() {
      const files = [...this.$refs.files.files];
      this.$refs.files.value = "";
      return this.send(files);
    },
    async send(files) {
      if (!files.length) return;
      await window.sendFiles(this.$root.dataset.address, files, this.$refs.sending);
      await this.refresh();
    },
    async refresh() {
      const piece = await fetchPiece(this.$root.dataset.address, { fragment: "state" });
      this.$refs.state.innerHTML = piece;
      document.querySelector(".phone-head p").textContent = this.$refs.state.querySelector("#state").dataset.head;
      this.follow();
    },
    follow() {
      clearTimeout(this.timer);
      const state = this.$refs.state.querySelector("#state");
      if (state.dataset.reading !== "yes") return;
      this.timer = setTimeout(async () => {
        try { await this.refresh(); } catch (error) { tell(error.message); }
      }, 800);
    },
    async drive(event) {
      const go = this.$refs.go;
      const said = go.textContent;
      go.disabled = true;
      go.textContent = "Driving …";
      try {
        await fetchPiece(event.target.action, { body: new FormData(event.target) });
        await this.refresh();
      } catch (error) { tell(error.message); }
      go.disabled = false;
      go.textContent = said;
    },
  }));
});
