// The WebSocket of a page: what is new comes in, what is wished goes out; after a break it is opened again.

const AGAIN_MS = 800;
const SHUT = [4403, 4404];

export class Link {
  /** @param on.news(message) what came; @param on.state(open) whether there is a link; @param on.shut() no leave any more */
  constructor(path, on) {
    this.address = `${location.protocol === "https:" ? "wss" : "ws"}://${location.host}${path}`;
    this.on = on;
    this.wish = null;
    this.over = false;
    this.timer = 0;
    // A page that slept is told late that its link is gone, and its timers are late as well.
    document.addEventListener("visibilitychange", () => {
      if (!document.hidden && !this.over && this.socket.readyState === WebSocket.CLOSED) this.open();
    });
    this.open();
  }
  open() {
    clearTimeout(this.timer);
    this.socket = new WebSocket(this.address);
    this.socket.addEventListener("open", () => {
      this.on.state(true);
      if (this.wish) this.socket.send(JSON.stringify(this.wish));
    });
    this.socket.addEventListener("message", (event) => this.on.news(JSON.parse(event.data)));
    this.socket.addEventListener("close", (event) => {
      this.on.state(false);
      if (SHUT.includes(event.code)) this.on.shut?.();
      else if (!this.over) this.timer = setTimeout(() => this.open(), AGAIN_MS);
    });
  }
  ask(wish) {
    this.wish = wish;
    if (this.socket.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(wish));
  }
  close() {
    this.over = true;
    this.socket.close();
  }
}
