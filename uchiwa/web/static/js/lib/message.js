// One line below the head of the page for what went wrong.

const SHOWN_MS = 12_000;
let timer = 0;

export function showError(error) {
  let line = document.querySelector(".said");
  if (!line) {
    line = document.createElement("p");
    line.setAttribute("role", "status");
    document.querySelector(".head, .phone-head").after(line);
  }
  line.className = "said is-bad";
  line.textContent = error.message;
  clearTimeout(timer);
  timer = setTimeout(() => line.remove(), SHOWN_MS);
}
