"""The server's log: lines for people or JSON for machines, each with the id of its request."""

import json
import logging
from collections import OrderedDict
from contextvars import ContextVar
from datetime import UTC, datetime
from enum import StrEnum

request_id: ContextVar[str] = ContextVar("request_id", default="-")
"""The id of the request that is being answered."""
log = logging.getLogger("greyheron")


BETWEEN = 60.0
"""Seconds between two lines that say the same."""
MOST_HELD = 500


class LogFormat(StrEnum):
    LINES = "lines"
    JSON = "json"


def write_logs(form: LogFormat, level: int = logging.INFO) -> None:
    """Log to standard error in that form, from now on."""
    handler = logging.StreamHandler()
    handler.setFormatter(_Json() if form is LogFormat.JSON else _Lines())
    handler.addFilter(Repeats())
    logging.basicConfig(level=level, handlers=[handler], force=True)
    for noisy in ("uvicorn.access", "alembic"):
        logging.getLogger(noisy).setLevel(logging.WARNING)


class Repeats(logging.Filter):
    """Lets a warning or an error that repeats through once a minute, and says how often it came meanwhile."""

    def __init__(self) -> None:
        super().__init__()
        self._held: OrderedDict[tuple[str, str], tuple[float, int]] = OrderedDict()

    def filter(self, record: logging.LogRecord) -> bool:
        if record.levelno < logging.WARNING:
            return True
        key, now = (record.name, record.getMessage()), record.created
        since, count = self._held.get(key, (now - BETWEEN, 0))
        if now - since < BETWEEN:
            self._held[key] = since, count + 1
            return False
        self._held[key] = now, 0
        self._held.move_to_end(key)
        if len(self._held) > MOST_HELD:
            self._held.popitem(last=False)
        if count:
            record.msg, record.args = f"{record.getMessage()} ({count} times more in the last minute)", ()
        return True


def _moment(record: logging.LogRecord) -> str:
    return datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds")


class _Lines(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        text = f"{_moment(record)} {record.levelname.lower():<7} {request_id.get()} {record.getMessage()}"
        return f"{text}\n{self.formatException(record.exc_info)}" if record.exc_info else text


class _Json(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        data: dict[str, object] = {
            "time": _moment(record),
            "level": record.levelname.lower(),
            "request": request_id.get(),
            "message": record.getMessage(),
        }
        data |= getattr(record, "told", {})
        if record.exc_info:
            data["error"] = self.formatException(record.exc_info)
        return json.dumps(data, ensure_ascii=False, default=str)
