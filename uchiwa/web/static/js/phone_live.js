// The phone during a drive: shows and says what to hold next, marks moments, gives leave and takes it back.

import { element } from "./lib/elements.js";
import { clockText } from "./lib/figures.js";
import { replaceFragment } from "./lib/fragments.js";
import { fetchFragment, fetchJson, formData } from "./lib/http.js";
import { showError } from "./lib/message.js";
import { registerPage } from "./lib/page.js";
import { Link } from "./live/link.js";

const LOOK_MS = 2500;
const SILENT_AFTER_MS = 3000;
const SAY_APART_MS = 3500;
const MARKED_MS = 2200;
const SPEAKS = "uchiwa-read-aloud";

class PhoneLivePage {
  constructor(root, refs) {
    Object.assign(this, { root, refs, heardAt: 0, end: 0, said: "", saidAt: 0, standing: null, linked: false });
    const { address, session } = root.dataset;
    this.words = JSON.parse(root.dataset.words);
    this.address = address;
    if (!session) {
      setInterval(() => this.look(), LOOK_MS);
      return;
    }
    this.here = `${address}/${session}`;
    refs.aloud.checked = localStorage.getItem(SPEAKS) === "yes" && "speechSynthesis" in window;
    refs.aloud.disabled = !("speechSynthesis" in window);
    this.link = new Link(`${this.here}/telling`, {
      news: (message) => this.take(message),
      state: (open) => {
        this.linked = open;
        this.say();
      },
      shut: () => location.reload(),
    });
    setInterval(() => this.say(), 500);
    document.addEventListener("visibilitychange", () => this.stayAwake());
    this.stayAwake();
  }
  async look() {
    try {
      const { session } = await fetchJson(this.address);
      if (session) location.reload();
    } catch {
      // It is looked again in a moment.
    }
  }
  async stayAwake() {
    if (document.hidden || !navigator.wakeLock) return;
    try {
      this.lock = await navigator.wakeLock.request("screen");
    } catch {
      // Some phones do not allow it; the page then wakes up with the phone, and goes on.
    }
  }

  take(message) {
    if (message.gone) return location.reload();
    if (message.t?.length) {
      this.heardAt = performance.now();
      this.end = message.t.at(-1);
      this.refs.clock.textContent = clockText(this.end);
    }
    if (message.reload) this.heardAt = performance.now();
    if (message.advice) this.advise(message.advice);
    if (message.found?.items?.length) this.tick(message.found.items);
    if (message.standing) this.takeStanding(message.standing);
    return undefined;
  }
  advise({ words, more, here, ask, cell }) {
    this.refs.words.textContent = words;
    this.refs.more.textContent = more;
    this.root.classList.toggle("is-here", here);
    this.root.dataset.ask = ask;
    this.root.dataset.cell = cell ? cell.join(".") : "";
    const key = `${ask} ${cell ?? ""} ${here}`;
    if (key !== this.said && performance.now() - this.saidAt > SAY_APART_MS) {
      this.said = key;
      this.saidAt = performance.now();
      this.speak(words);
    }
  }
  tick(items) {
    this.refs.items?.replaceChildren(
      ...items.map(({ title, tick }) => {
        const row = element("li", `is-${tick}`);
        row.append(element("span", "tick", tick === "done" ? "✓" : ""), ` ${title}`);
        return row;
      }),
    );
  }
  speak(words) {
    if (!this.refs.aloud.checked) return;
    speechSynthesis.cancel();
    speechSynthesis.speak(this.utterance(words));
  }
  utterance(words) {
    const said = new SpeechSynthesisUtterance(
      words.replace("rpm", document.documentElement.lang === "en" ? "revs" : ""),
    );
    said.lang = document.documentElement.lang;
    return said;
  }
  aloud() {
    localStorage.setItem(SPEAKS, this.refs.aloud.checked ? "yes" : "no");
    if (this.refs.aloud.checked) this.speak(this.refs.words.textContent);
    else speechSynthesis.cancel();
  }
  takeStanding(standing) {
    const before = this.standing;
    this.standing = standing;
    if (before && before.message !== standing.message) this.fetchWords();
    if (!standing.running) {
      this.refs.words.textContent = this.words.over;
      this.refs.more.textContent = this.words.kept;
      this.root.classList.remove("is-here");
      this.root.classList.add("is-over");
      this.refs.leave.hidden = true;
      this.link.close();
    } else this.showLeave();
    this.say();
  }
  showLeave() {
    const { standing, refs } = this;
    refs.leave.hidden = !standing.wanted && !standing.allowed;
    refs.allow.hidden = standing.allowed;
    refs.back.hidden = !standing.allowed;
    if (standing.allowed) {
      refs.leaveHead.textContent = standing.acknowledged ? this.words.corrected : this.words.allowed;
    }
  }
  say() {
    const { standing } = this;
    const quiet = performance.now() - this.heardAt;
    let [words, dot] = [this.words.recorded, "is-busy"];
    if (standing && !standing.running) [words, dot] = [this.words.ended, "is-fine"];
    else if (!this.linked) [words, dot] = [this.words.no_link, "is-needs"];
    else if (this.heardAt && quiet > SILENT_AFTER_MS)
      [words, dot] = [this.words.silent.replace("{seconds}", Math.round(quiet / 1000)), "is-needs"];
    const mark = this.refs.link.firstElementChild;
    mark.className = `dot ${dot}`;
    this.refs.link.replaceChildren(mark, words);
  }

  async mark() {
    const { mark } = this.refs;
    const words = this.words.mark;
    try {
      const { at } = await fetchJson(`${this.here}/mark`, { body: formData({}) });
      mark.textContent = this.words.marked.replace("{at}", clockText(at));
      mark.classList.add("is-done");
      setTimeout(() => {
        mark.textContent = words;
        mark.classList.remove("is-done");
      }, MARKED_MS);
    } catch (error) {
      showError(error);
    }
  }
  allow() {
    return this.leave(true);
  }
  goBack() {
    return this.leave(false);
  }
  async leave(allowed) {
    try {
      await fetchJson(`${this.here}/allow`, { body: formData({ allowed }) });
    } catch (error) {
      showError(error);
    }
  }
  async write(event) {
    if (!this.refs.text.value.trim()) return;
    try {
      const body = new FormData(event.target);
      replaceFragment(this.refs.messages, await fetchFragment(event.target.action, { body }));
      this.refs.text.value = "";
      event.target.querySelector('[name="once"]').value = crypto.randomUUID?.() ?? String(Math.random());
    } catch (error) {
      showError(error);
    }
  }
  async fetchWords() {
    try {
      replaceFragment(this.refs.messages, await fetchFragment(`${this.here}/words`));
    } catch (error) {
      showError(error);
    }
  }
}

registerPage("phoneLive", PhoneLivePage);
