// Passkeys: the browser is asked to make one, or to sign with one, and its answer goes to the server as a form.

import { fetchJson, formData } from "./lib/http.js";

const able = () =>
  typeof PublicKeyCredential === "function" &&
  typeof PublicKeyCredential.parseCreationOptionsFromJSON === "function" &&
  typeof PublicKeyCredential.parseRequestOptionsFromJSON === "function";

const GIVEN_UP = "Nothing was signed: it was put off, took too long, or this device knows no passkey for this address.";
const TOO_OLD = "This browser is too old for passkeys.";

async function answerTo(kind, options) {
  if (kind === "make")
    return navigator.credentials.create({ publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(options) });
  return navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(options) });
}

async function begin(form) {
  const kind = form.dataset.passkey;
  const typed = kind === "make" ? { password: form.elements.password.value } : { kind };
  const asked = await fetchJson(form.dataset.options, { body: formData(typed) });
  const made = await answerTo(kind, JSON.parse(asked.options));
  const sent = formData({ state: asked.state, answer: JSON.stringify(made.toJSON()) });
  for (const [name, value] of sent) {
    const field = document.createElement("input");
    Object.assign(field, { type: "hidden", name, value });
    form.append(field);
  }
  form.submit();
}

for (const form of document.querySelectorAll("form[data-passkey]")) {
  const problem = form.querySelector("[data-problem]");
  const say = (words) => {
    problem.textContent = words;
    problem.hidden = false;
  };
  form.hidden = form.dataset.passkey === "sign" && !able();
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    if (!able()) return say(TOO_OLD);
    problem.hidden = true;
    try {
      await begin(form);
    } catch (error) {
      say(error instanceof DOMException ? GIVEN_UP : error.message);
    }
  });
}
