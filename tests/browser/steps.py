"""`python -m tests.browser.steps`: takes steps of these tests in a served home, one after another.

Each line it is given is [module, function, arguments…] as JSON; it answers with a line, {"done": what came of it} or
{"failed": why}. One process takes all steps of a home, for each that is begun loads the application anew.
"""

from __future__ import annotations

import json
import sys
import traceback
from importlib import import_module

from uchiwa.store.database import connect_to
from uchiwa.store.place import Place


def main() -> None:
    """Until there is nothing more to do."""
    connect_to(Place.load())
    for line in sys.stdin:
        module, function, *words = json.loads(line)
        try:
            told = {"done": getattr(import_module(f"tests.browser.{module}"), function)(*words)}
        except Exception:
            told = {"failed": traceback.format_exc()}
        print(json.dumps(told), flush=True)


if __name__ == "__main__":
    main()
