"""Orders and answers as JSON, before they are sealed. A reader does not trust what it reads.

docs/formats.md describes the documents.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from scopion.attachment.orders.order import Answer, Guard, Guards, Jobs, ModeOf, Order, WordWanted
from scopion.attachment.ports import Control, EveryStation, Job, Program, Ran, ReadFile, ReadLog, WriteFile
from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.wire.serial import Fields

ORDER, ANSWER = "order/1", "answer/1"
_MOST_JOBS, _MOST_WORDS, _MOST_RADIOS = 4_096, 64, 16
_MOST_WAITING = 256
_LONGEST_S = 366 * 86_400.0


def order_to_json(order: Order) -> bytes:
    """Return an order as text."""
    asks: dict[str, Any] = {}
    if isinstance(order.asks, Jobs):
        asks = {"jobs": [_job(each) for each in order.asks.jobs]}
    elif isinstance(order.asks, ModeOf):
        asks = {"mode_of": order.asks.path}
    elif isinstance(order.asks, Guards):
        asks = {"waiting": list(order.asks.waiting)}
        if order.asks.new is not None:
            new = order.asks.new
            asks["guard"] = {
                "push": new.push,
                "left_s": new.left_s,
                "before": dict(new.before),
                "first": list(map(str, new.first)),
            }
    head = {"form": ORDER, "session": order.session, "number": order.number, "word": order.word}
    return _written({**head, "enforcer": order.enforcer, **asks})


def order_from_json(octets: bytes) -> Order:
    """Return an order. Raises MalformedFrame, never anything else."""
    read = _read(octets)
    fields = Fields(read, ORDER)
    asks: WordWanted | Jobs | ModeOf | Guards = WordWanted()
    if "jobs" in read:
        asks = Jobs(tuple(map(_job_of, fields.objects("jobs", _MOST_JOBS))))
    elif "mode_of" in read:
        asks = ModeOf(_plain(read, "mode_of"))
    elif "waiting" in read:
        asks = Guards(_numbers(read["waiting"]), guard_of(read["guard"]) if "guard" in read else None)
    return Order(
        session=fields.text("session") or str(fields.lacks("session")),
        number=fields.count("number"),
        word=fields.text("word"),
        enforcer=fields.text("enforcer"),
        asks=asks,
    )


def answer_to_json(answer: Answer) -> bytes:
    """Return an answer as text."""
    return _written(
        {
            "form": ANSWER, "session": answer.session, "number": answer.number, "word": answer.word,
            "ran": [[each.code, each.output, each.errors] for each in answer.ran],
            "mode": list(answer.mode) if answer.mode is not None else None, "guarded": list(answer.guarded),
            "refused": answer.refused, "failed": answer.failed, "is_stale": answer.is_stale,
        }
    )  # fmt: skip


def answer_from_json(octets: bytes) -> Answer:
    """Return an answer. Raises MalformedFrame, never anything else."""
    read = _read(octets)
    fields = Fields(read, ANSWER)
    mode = read.get("mode")
    if mode is not None and not (isinstance(mode, list) and len(mode) == 2 and _is_mode(*mode)):
        raise MalformedFrame("mode is a number and a group")
    return Answer(
        session=fields.text("session"),
        number=fields.count("number"),
        word=fields.text("word"),
        ran=tuple(map(_ran_of, fields.lists("ran", _MOST_JOBS))),
        mode=(mode[0], mode[1]) if mode is not None else None,
        guarded=_numbers(read.get("guarded", [])),
        refused=fields.text("refused"),
        failed=fields.text("failed"),
        is_stale=fields.flag("is_stale"),
    )


def _written(document: Mapping[str, Any]) -> bytes:
    # Octets that are no UTF-8 come as lone surrogates from files and programs, and go as they are.
    return json.dumps(document, separators=(",", ":")).encode("ascii")


def _read(octets: bytes) -> dict[str, Any]:
    try:
        read = json.loads(octets)
    except (ValueError, RecursionError):
        raise MalformedFrame("it is no JSON") from None
    if not isinstance(read, dict):
        raise MalformedFrame("it is no document of ours")
    return read


def _job(job: Job) -> dict[str, Any]:
    if isinstance(job, Program):
        return {"run": list(job.command), "stdin": job.stdin}
    if isinstance(job, Control):
        return {"ask": job.socket, "command": job.command, "must": job.must}
    if isinstance(job, EveryStation):
        return {"stations": job.socket}
    if isinstance(job, ReadFile):
        return {"read": job.path}
    if isinstance(job, WriteFile):
        return {"write": job.path, "text": job.text, "instead_of": job.instead_of}
    return {"log": list(job.words)}


def _job_of(read: Mapping[str, Any]) -> Job:
    if "run" in read:
        return Program(_words(read, "run"), _plain(read, "stdin"))
    if "ask" in read:
        return Control(_plain(read, "ask"), _plain(read, "command"), _plain(read, "must"))
    if "stations" in read:
        return EveryStation(_plain(read, "stations"))
    if "read" in read:
        return ReadFile(_plain(read, "read"))
    if "write" in read:
        return WriteFile(_plain(read, "write"), _plain(read, "text"), _plain(read, "instead_of"))
    if "log" in read:
        return ReadLog(_words(read, "log"))
    raise MalformedFrame("a job is none that a sensor knows")


def _plain(read: Mapping[str, Any], key: str) -> str:
    """Return a text as it is, with all its control characters: it may be a file's."""
    value = read.get(key)
    if not isinstance(value, str):
        raise MalformedFrame(f"{key} is not text")
    return value


def _words(read: Mapping[str, Any], key: str) -> tuple[str, ...]:
    value = read.get(key)
    if not isinstance(value, list) or not 0 < len(value) <= _MOST_WORDS or not all(isinstance(x, str) for x in value):
        raise MalformedFrame(f"{key} is not a list of words")
    return tuple(value)


def _is_mode(bits: object, group: object) -> bool:
    return isinstance(bits, int) and not isinstance(bits, bool) and 0 <= bits < 1 << 16 and isinstance(group, str)


def _ran_of(read: list[Any]) -> Ran:
    if len(read) != 3 or isinstance(read[0], bool) or not isinstance(read[0], int):
        raise MalformedFrame("what came of a job is a code and two texts")
    if not isinstance(read[1], str) or not isinstance(read[2], str) or abs(read[0]) > 1 << 31:
        raise MalformedFrame("what came of a job is a code and two texts")
    return Ran(*read)


def _numbers(read: object) -> tuple[int, ...]:
    if not isinstance(read, list) or len(read) > _MOST_WAITING:
        raise MalformedFrame("it has no list of pushes where one should be")
    if not all(isinstance(each, int) and not isinstance(each, bool) and 0 < each < 1 << 53 for each in read):
        raise MalformedFrame("it has no list of pushes where one should be")
    return tuple(read)


def guard_of(read: object) -> Guard:
    """Return a guard, as an order or a sensor's file has it. Raises MalformedFrame, never anything else."""
    fields = Fields({"form": "", **read} if isinstance(read, dict) else {}, "")
    left = fields.number("left_s")
    before = read.get("before") if isinstance(read, dict) else None
    if left is None or not 0 <= left <= _LONGEST_S:
        raise MalformedFrame("left_s is not a time that can be")
    if not isinstance(before, dict) or not 0 < len(before) <= _MOST_RADIOS:
        raise MalformedFrame("before is what each radio held")
    try:
        first = tuple(MacAddress.parse(each) for each in fields.texts("first", _MOST_JOBS))
    except ValueError:
        raise MalformedFrame("first is a list of MAC addresses") from None
    return Guard(fields.count("push"), float(left), before, first)
