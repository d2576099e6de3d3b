"""What comes of work elsewhere as plain data: read back by the types that its question says, and checked."""

from collections.abc import Sequence
from functools import cache
from math import prod
from typing import Any, get_args, get_origin, get_type_hints

import msgspec
import numpy as np
from pydantic import BaseModel, ValidationError

from greyheron.analysis.reach.question import ReachError
from greyheron.compute.questions.question import Question
from greyheron.core.progress import Cancelled
from greyheron.core.walk.addressing import FlowError
from greyheron.model.problems import DocumentError, Problem

_ERRORS: dict[str, type[Exception]] = {each.__name__: each for each in (Cancelled, FlowError, ReachError)}


class NotPlain(ValueError):
    """What came from elsewhere is not what was asked for."""


class WentWrong(msgspec.Struct, frozen=True):
    """An error of work elsewhere. `problems`: of a document."""

    kind: str
    text: str
    problems: tuple[Problem, ...] = ()

    @classmethod
    def of(cls, error: Exception) -> "WentWrong":
        problems = error.problems if isinstance(error, DocumentError) else ()
        return cls(type(error).__name__, str(error), problems)

    def error(self) -> Exception:
        """The same to be raised here: one that is known, or words about one that is not."""
        if self.kind == DocumentError.__name__:
            return DocumentError(self.problems)
        known = _ERRORS.get(self.kind)
        return RuntimeError(f"{self.kind}: {self.text}") if known is None else known(self.text)


def packed_result(result: Any) -> bytes:
    """An answer, or the error (WentWrong) that it ended with."""
    return msgspec.msgpack.encode(result, enc_hook=_plain)


def result_of(kind: type[Question[Any]], packed: Any) -> Any:
    """What `packed_result` made of an answer. Raises NotPlain."""
    return _read(_results(kind), packed)


def error_of(packed: Any) -> Exception:
    """The error that `packed_result` was made of. Raises NotPlain."""
    went: WentWrong = _read(msgspec.msgpack.Decoder(WentWrong), packed)
    return went.error()


def packed_findings(found: Sequence[Any]) -> bytes:
    """What was found before the end."""
    return msgspec.msgpack.encode(tuple(found), enc_hook=_plain)


def findings_of(kind: type[Question[Any]], packed: Any) -> Sequence[Any]:
    """What `packed_findings` was made of. Raises NotPlain."""
    found: Sequence[Any] = _read(_found(kind), packed)
    return found


@cache
def _results(kind: type[Question[Any]]) -> msgspec.msgpack.Decoder[Any]:
    answer = get_type_hints(kind.run)["return"]
    return msgspec.msgpack.Decoder(answer, dec_hook=_made)


@cache
def _found(kind: type[Question[Any]]) -> msgspec.msgpack.Decoder[Any]:
    return msgspec.msgpack.Decoder(kind.finds, dec_hook=_made)


def _read(decoder: msgspec.msgpack.Decoder[Any], packed: Any) -> Any:
    if not isinstance(packed, bytes):
        raise NotPlain(f"{type(packed).__name__}, not bytes")
    try:
        return decoder.decode(packed)
    except (msgspec.MsgspecError, ValidationError, ValueError) as error:
        raise NotPlain(str(error)) from None


def _plain(value: Any) -> Any:
    """What msgspec does not know as something that it does."""
    if isinstance(value, np.ndarray):
        return value.dtype.str, value.shape, value.tobytes()
    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    raise NotImplementedError(f"{type(value).__name__} has no plain form")


def _made(kind: Any, data: Any) -> Any:
    """The value of a type that msgspec does not know."""
    plain = get_origin(kind) or kind
    if plain is np.ndarray:
        return _array(np.dtype(get_args(get_args(kind)[1])[0]), data)
    if isinstance(plain, type) and issubclass(plain, BaseModel):
        return plain.model_validate(data)
    raise NotImplementedError(f"{kind} has no plain form")


def _array(wanted: np.dtype[Any], data: Any) -> np.ndarray[Any, Any]:
    written, shape, content = data
    sides = [side for side in shape if isinstance(side, int) and side >= 0]
    if written != wanted.str or len(sides) != len(shape) or prod(sides) * wanted.itemsize != len(content):
        raise ValueError(f"an array of {wanted.str} was expected")
    return np.frombuffer(content, dtype=wanted).reshape(sides).copy()
