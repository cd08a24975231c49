"""Remote engine calibration, round by round."""

import os

# polars' allocator gives memory back at once, so that reading a large log takes a third less of it. It looks at this
# when polars is loaded; polars puts its own wishes first, and the last one counts.
_WISH = "dirty_decay_ms:0,muzzy_decay_ms:0"
_KEY = "_RJEM_MALLOC_CONF"
if not os.environ.get(_KEY, "").endswith(_WISH):
    os.environ[_KEY] = ",".join(filter(None, (os.environ.get(_KEY), _WISH)))

__version__ = "0.2.0"
