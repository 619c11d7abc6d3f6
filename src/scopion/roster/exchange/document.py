"""Devices as JSON and JSON Lines, described by a published JSON Schema (docs/schemas/devices.schema.json).

The models below are that description: the schema is made from them, and they check what is read.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from scopion.model.device import Standing
from scopion.model.observation import Medium, Source, Trait, TraitKind
from scopion.model.text import MAX_TEXT, clean, escaped_json
from scopion.roster.exchange import fields
from scopion.roster.exchange.record import (
    MAX_RECORDS,
    AdapterRecord,
    DeviceRecord,
    RecordProblem,
    Records,
    duplicates,
)

FORMAT: Literal["scopion-devices"] = "scopion-devices"
VERSION = 1
_PROBLEMS_TOLD = 20


def _mac(text: str) -> str:
    return str(fields.mac(text))


def _address(text: str) -> str:
    return str(fields.address(text))


Mac = Annotated[str, AfterValidator(_mac), Field(description="A MAC address, in any notation.")]
Ip = Annotated[str, AfterValidator(_address), Field(description="An IPv4 or IPv6 address.")]
Text = Annotated[str, Field(max_length=MAX_TEXT), AfterValidator(clean)]


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid")


class AdapterModel(_Strict):
    """A network card."""

    mac: Mac
    medium: Medium | None = None
    first_seen: datetime | None = None
    last_seen: datetime | None = None
    addresses: list[Ip] = Field(default=[], description="Where it is, or was last.")


class NameModel(_Strict):
    """A host name and its source."""

    name: Text
    source: Source


class DeviceModel(_Strict):
    """A thing with one or more adapters, and what people said of it."""

    standing: Standing | None = None
    label: Text | None = None
    owner: Text | None = None
    place: Text | None = None
    note: Text | None = None
    guest_until: date | None = Field(default=None, description="A guest's last day.")
    standing_since: datetime | None = None
    because: Text | None = None
    essential: bool | None = Field(default=None, description="Never to be refused on the air.")
    adapters: list[AdapterModel] = []
    unpaired: list[Ip] = Field(default=[], description="Where it is known without a MAC address.")
    places: dict[Ip, Text] = Field(default={}, description="In which place of the site an address is.")
    names: list[NameModel] = []
    present: bool | None = Field(default=None, description="Whether it was here; not taken in.")
    revision: int | None = Field(default=None, ge=0, description="Of the state that was exported.")
    vendor: str | None = Field(default=None, description="Looked up; not taken in.")
    kind: str | None = Field(default=None, description="Guessed; not taken in.")


class DocumentModel(_Strict):
    """A whole export."""

    format: Literal["scopion-devices"]
    version: Literal[1]
    exported: datetime | None = None
    site: str | None = None
    devices: list[DeviceModel] = Field(max_length=MAX_RECORDS)


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of the document."""
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Devices exported by Scopion"}
    return {**schema, **{key: value for key, value in DocumentModel.model_json_schema().items() if key != "title"}}


def write_document(
    records: Iterable[tuple[DeviceRecord, Mapping[str, str]]], site: str, at: datetime, *, lines: bool = False
) -> str:
    """Return records as one JSON document, or one JSON object a line."""
    devices = [_as_json(record, more) for record, more in records]
    if lines:
        return "".join(escaped_json(json.dumps(device, ensure_ascii=False)) + "\n" for device in devices)
    whole = {"format": FORMAT, "version": VERSION, "exported": fields.iso(at), "site": site, "devices": devices}
    return escaped_json(json.dumps(whole, ensure_ascii=False, indent=2)) + "\n"


def read_document(text: str) -> tuple[Records, datetime | None]:
    """Read a JSON document. Returns the records, and when they were exported."""
    try:
        document = TypeAdapter(DocumentModel).validate_json(text)
    except ValidationError as error:
        return Records((), tuple(_said(text, each) for each in error.errors(include_url=False)[:_PROBLEMS_TOLD])), None
    records = tuple(_record(device, number) for number, device in enumerate(document.devices, 1))
    return Records(records, tuple(duplicates(records))), document.exported


def read_lines(text: str) -> Records:
    """Read JSON Lines: one device a line."""
    records: list[DeviceRecord] = []
    problems: list[RecordProblem] = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or len(problems) >= _PROBLEMS_TOLD:
            continue
        try:
            records.append(_record(TypeAdapter(DeviceModel).validate_json(line), number))
        except ValidationError as error:
            problems.append(RecordProblem(number, _message(error.errors(include_url=False)[0])))
    return Records(tuple(records), (*problems, *duplicates(records)))


def _record(device: DeviceModel, line: int) -> DeviceRecord:
    return DeviceRecord(
        adapters=tuple(
            AdapterRecord(
                fields.mac(each.mac),
                each.medium or Medium.UNKNOWN,
                each.first_seen,
                each.last_seen,
                tuple(map(fields.address, each.addresses)),
            )
            for each in device.adapters
        ),
        unpaired=tuple(map(fields.address, device.unpaired)),
        places={fields.address(address): place for address, place in device.places.items() if place},
        label=device.label,
        owner=device.owner,
        place=device.place,
        note=device.note,
        standing=device.standing,
        guest_until=device.guest_until,
        standing_since=device.standing_since,
        because=device.because,
        essential=device.essential,
        names=tuple(Trait(TraitKind.NAME, clean(name.name), name.source) for name in device.names),
        present=device.present,
        revision=device.revision,
        line=line,
    )


def _as_json(record: DeviceRecord, more: Mapping[str, str]) -> dict[str, Any]:
    return {
        "standing": str(record.standing) if record.standing else None,
        **{name: getattr(record, name) or "" for name in ("label", "owner", "place", "note")},
        "guest_until": record.guest_until.isoformat() if record.guest_until else None,
        "standing_since": fields.iso(record.standing_since) if record.standing_since else None,
        "because": record.because or "",
        "essential": bool(record.essential),
        "adapters": [
            {
                "mac": str(adapter.mac),
                "medium": str(adapter.medium or Medium.UNKNOWN),
                "first_seen": fields.iso(adapter.first_seen) if adapter.first_seen else None,
                "last_seen": fields.iso(adapter.last_seen) if adapter.last_seen else None,
                "addresses": list(map(str, adapter.addresses)),
            }
            for adapter in record.adapters
        ],
        "unpaired": list(map(str, record.unpaired)),
        **({"places": {str(each): place for each, place in record.places.items()}} if record.places else {}),
        "names": [{"name": name.value, "source": str(name.source)} for name in record.names],
        "present": record.present,
        "revision": record.revision,
        **{key: value or None for key, value in more.items()},
    }


def _said(text: str, error: Any) -> RecordProblem:
    place: Sequence[Any] = error["loc"]
    if error["type"] == "json_invalid":
        line = error.get("ctx", {}).get("error", "")
        return RecordProblem(0, f"no JSON: {line or error['msg']}")
    number = next((part + 1 for part in place if isinstance(part, int)), None)
    where = f"device {number}: " if number else ""
    return RecordProblem(0, where + _message(error))


def _message(error: Any) -> str:
    key = ".".join(str(part) for part in error["loc"] if part != "devices")
    message = str(error["msg"]).removeprefix("Value error, ")
    return f"{key}: {message}" if key else message
