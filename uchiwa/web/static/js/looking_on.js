// For somebody who changes nothing: forms show what they hold, and take nothing. The server refuses them anyway.

const OWN = /^\/(account|settings|sign-out)/;

const still = () => {
  for (const form of document.querySelectorAll("form[method=post]")) {
    if (!OWN.test(form.getAttribute("action") ?? location.pathname)) form.inert = true;
  }
};

still();
new MutationObserver(still).observe(document.body, { childList: true, subtree: true });
