"""Remote engine calibration, round by round."""

import os

# polars' allocator gives memory back at once, so that reading a large log takes a third less of it. It looks at this
# when polars is loaded.
os.environ.setdefault("_RJEM_MALLOC_CONF", "dirty_decay_ms:0,muzzy_decay_ms:0")

__version__ = "0.1.0"
