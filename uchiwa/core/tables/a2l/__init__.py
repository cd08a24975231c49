"""Descriptions of controllers in ASAM MCD-2 MC (ASAP2, `.a2l`), read into layouts."""
