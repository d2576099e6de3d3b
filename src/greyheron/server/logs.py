"""The server's log: lines for people or JSON for machines, each with the id of its request."""

import json
import logging
from contextvars import ContextVar
from datetime import UTC, datetime
from enum import StrEnum

request_id: ContextVar[str] = ContextVar("request_id", default="-")
"""The id of the request that is being answered."""
log = logging.getLogger("greyheron")


class LogFormat(StrEnum):
    LINES = "lines"
    JSON = "json"


def write_logs(form: LogFormat, level: int = logging.INFO) -> None:
    """Log to standard error in that form, from now on."""
    handler = logging.StreamHandler()
    handler.setFormatter(_Json() if form is LogFormat.JSON else _Lines())
    logging.basicConfig(level=level, handlers=[handler], force=True)
    for noisy in ("uvicorn.access", "alembic"):
        logging.getLogger(noisy).setLevel(logging.WARNING)


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
