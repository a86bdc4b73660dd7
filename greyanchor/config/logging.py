"""The application's log: one line an event, as text for a person or as JSON for a program."""

from __future__ import annotations

import sys
from typing import Any

import structlog

LEVELS = ("DEBUG", "INFO", "WARNING", "ERROR")
_SHARED: list[Any] = [
    structlog.contextvars.merge_contextvars,
    structlog.stdlib.add_log_level,
    structlog.stdlib.add_logger_name,
    structlog.stdlib.ExtraAdder(),
    structlog.processors.TimeStamper(fmt="iso", utc=True),
]


def logging_settings(level: str, form: str) -> dict[str, Any]:
    """Django's LOGGING: everything from `level` on goes to standard error, as `form` "text" or "json".

    Raises `ValueError` for a level or a form that there is not.
    """
    level = level.upper()
    if level not in LEVELS:
        raise ValueError(f"GREYANCHOR_LOG_LEVEL is {level}; use one of {', '.join(LEVELS)}")
    if form not in ("text", "json"):
        raise ValueError(f"GREYANCHOR_LOG_FORMAT is {form}; use text or json")
    structlog.configure(
        processors=[*_SHARED, structlog.stdlib.ProcessorFormatter.wrap_for_formatter],
        logger_factory=structlog.stdlib.LoggerFactory(),
        wrapper_class=structlog.stdlib.BoundLogger,
        cache_logger_on_first_use=True,
    )
    return {
        "version": 1,
        "disable_existing_loggers": False,
        "formatters": {
            "lines": {
                "()": structlog.stdlib.ProcessorFormatter,
                "processors": [structlog.stdlib.ProcessorFormatter.remove_processors_meta, *_ending(form)],
                "foreign_pre_chain": _SHARED,
            }
        },
        "handlers": {
            "console": {"class": "logging.StreamHandler", "formatter": "lines", "stream": "ext://sys.stderr"}
        },
        "root": {"handlers": ["console"], "level": "WARNING"},
        "loggers": {
            "greyanchor": {"level": level},
            # refused requests stand in the line of their request already
            "django.request": {"level": "ERROR"},
        },
    }


def _ending(form: str) -> list[Any]:
    if form == "json":
        return [structlog.processors.format_exc_info, structlog.processors.JSONRenderer()]
    return [
        # values of variables stay out of it: they may be keys and passwords
        structlog.dev.ConsoleRenderer(
            colors=sys.stderr.isatty(), exception_formatter=structlog.dev.plain_traceback
        )
    ]
