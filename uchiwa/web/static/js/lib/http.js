// Requests to the server, and what it says when it refuses one.

export const csrf = () => document.querySelector('meta[name="csrf"]').content;

/**
 * A refusal, or a server that could not be reached.
 * The message is fit to be shown; `details` holds what the server said about it (`what`, `position`, `length`).
 */
export class RequestError extends Error {
  constructor(message, details = {}) {
    super(message);
    this.details = details;
  }
}

export async function errorOf(response) {
  const text = await response.text();
  try {
    const details = JSON.parse(text);
    return new RequestError(details.said || "The server could not be reached.", details);
  } catch {
    return new RequestError(text || "The server could not be reached.");
  }
}

async function request(address, { body, fragment = "yes" } = {}) {
  const headers = { "X-Fragment": fragment, "X-CSRF": csrf() };
  let response;
  try {
    response = await fetch(address, { method: body ? "POST" : "GET", body, headers });
  } catch {
    throw new RequestError("The server could not be reached. Nothing was changed; try again.");
  }
  if (!response.ok) throw await errorOf(response);
  return response;
}

/** A piece of a page. With `body` it is posted; `fragment` names the piece where a page has several. */
export const fetchFragment = async (address, options) => (await request(address, options)).text();
export const fetchJson = async (address, options) => (await request(address, options)).json();
export const fetchBytes = async (address, options) => (await request(address, options)).arrayBuffer();

export function formData(fields) {
  const data = new FormData();
  for (const [name, value] of Object.entries(fields)) data.set(name, value);
  return data;
}
