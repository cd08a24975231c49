// Makes a class the state of a page: its public methods are what the page's x-on attributes name.

export function registerPage(name, Page) {
  document.addEventListener("alpine:init", () => {
    Alpine.data(name, () => {
      // Kept outside Alpine's reach, which would watch thousands of cells.
      let page = null;
      const scope = {
        init() {
          page = new Page(this.$root, this.$refs, this.$nextTick);
        },
      };
      for (const [method, { value }] of Object.entries(Object.getOwnPropertyDescriptors(Page.prototype))) {
        if (method !== "constructor" && typeof value === "function")
          scope[method] = (...given) => page[method](...given);
      }
      return scope;
    });
  });
}
