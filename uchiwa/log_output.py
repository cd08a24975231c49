"""The server's log: lines for people or JSON for machines, each with the request it belongs to."""

from __future__ import annotations

import logging
import sys

import structlog

from uchiwa.settings import Settings


def begin_logging(settings: Settings) -> None:
    """Have everything that this process logs written in the settings' form, to its standard error."""
    shared: list[structlog.typing.Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.stdlib.add_logger_name,
        structlog.stdlib.add_log_level,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
    ]
    console = settings.log_format == "console"
    # A traceback without local variables, whatever library could show them: they hold passwords, tokens and names.
    last: structlog.typing.Processor = (
        structlog.dev.ConsoleRenderer(colors=sys.stderr.isatty(), exception_formatter=structlog.dev.plain_traceback)
        if console
        else structlog.processors.JSONRenderer()
    )
    traceback = [] if console else [structlog.processors.format_exc_info]
    formatter = structlog.stdlib.ProcessorFormatter(
        foreign_pre_chain=shared,
        processors=[structlog.stdlib.ProcessorFormatter.remove_processors_meta, *traceback, last],
    )
    handler = logging.StreamHandler()
    handler.setFormatter(formatter)
    root = logging.getLogger("uchiwa")
    root.handlers[:] = [handler]
    root.setLevel(settings.log_level.upper())
    root.propagate = False
    structlog.configure(
        processors=[*shared, structlog.stdlib.ProcessorFormatter.wrap_for_formatter],
        logger_factory=structlog.stdlib.LoggerFactory(),
        wrapper_class=structlog.stdlib.BoundLogger,
        cache_logger_on_first_use=True,
    )
