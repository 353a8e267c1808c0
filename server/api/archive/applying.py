"""An archive made true: what differs is changed, all of it in one transaction or nothing."""

from __future__ import annotations

import csv
import difflib
import io
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from django.db import transaction
from rest_framework.exceptions import ValidationError

from oculum.language.definitions import format_definition
from oculum.language.problems import DefinitionError
from server.api.archive.files import Item, items, items_of
from server.api.definitions.serial import CaseIn
from server.api.devices.register import check_uses
from server.api.devices.serial import SiteOut, TypeOut
from server.api.places.fences import FenceOut, raise_where_used
from server.api.telling.serial import ChainOut, ContactOut, OutletOut
from server.records.definitions.models import Case, Definition, ReferenceTable
from server.records.fleet.models import DeviceType, Fence, Setpoint, Site
from server.records.people.models import Person, record
from server.records.telling.models import Chain, Contact, Outlet
from server.rules.decoders import CasesFail
from server.rules.kinds import NotPublishable
from server.rules.publishing import publish, retire
from server.rules.refusal import Refused
from server.rules.registering import control, registry_changed, remove_setpoint, set_setpoint
from server.rules.routes import in_order, looking_up, reorder, sending_to
from server.rules.tables import keep, read

DIFFERENCE_LINES = 200
WHY = "applied from an archive"


@dataclass
class Change:
    """What becomes of one thing: created, changed, unchanged, removed, left (not in the archive), refused."""

    kind: str
    name: str
    path: str
    becomes: str
    difference: str = ""
    why: str = ""


@dataclass
class Plan:
    changes: list[Change] = field(default_factory=list)

    @property
    def refused(self) -> list[Change]:
        return [change for change in self.changes if change.becomes == "refused"]


class _Undone(Exception):
    """The work of a plan is taken back."""


def apply(files: Mapping[str, str], person: Person, dry_run: bool, remove: bool) -> Plan:
    """Makes what is written true, and removes what is not written where that is wanted.

    A dry run does all of it and takes it back, so that what it says is what happens. Where something is refused, all
    is taken back. Raises Refused where files cannot be read.
    """
    wanted = [_laid_out(item) for item in items_of(files)]
    known = {item.key: item for item in items()}
    plan = Plan()
    try:
        with transaction.atomic():
            registry_changed(person)
            for item in wanted:
                plan.changes.append(_applied(item, known.get(item.key), person))
            keys = {item.key for item in wanted}
            for item in reversed(list(known.values())):
                if item.key not in keys:
                    plan.changes.append(_gone(item, person, remove))
            _in_order([item.name for item in wanted if item.kind == "route"], person)
            if not dry_run and not plan.refused:
                about = {w: sum(c.becomes == w for c in plan.changes) for w in ("created", "changed", "removed")}
                record(person, "applied", "an archive", about)
            if dry_run or plan.refused:
                raise _Undone
    except _Undone:
        pass
    return plan


def _laid_out(item: Item) -> Item:
    if not item.path.endswith(".ocu"):
        return item
    try:
        return Item(item.kind, item.name, item.path, format_definition(item.text))
    except DefinitionError:
        return item  # it is refused with its problems where it is published


def _applied(item: Item, before: Item | None, person: Person) -> Change:
    if before is not None and before.text == item.text:
        return Change(item.kind, item.name, item.path, "unchanged")
    change = Change(item.kind, item.name, item.path, "created" if before is None else "changed")
    if before is not None:
        lines = difflib.unified_diff(before.text.split("\n"), item.text.split("\n"), "now", item.path, "", "", 2, "")
        change.difference = "\n".join(list(lines)[:DIFFERENCE_LINES])
    try:
        with transaction.atomic():
            MAKERS[item.kind](item, person)
    except (Refused, ValidationError, NotPublishable, CasesFail, ValueError, KeyError, TypeError) as error:
        change.becomes, change.why = "refused", _said(error)
    return change


def _said(error: Exception) -> str:
    if isinstance(error, NotPublishable) and error.problems:
        first = error.problems[0]
        return f"line {first.span.line}: {first.message}"
    if isinstance(error, Refused):
        return error.sentence
    if isinstance(error, ValidationError):
        return _flat(error.detail)[:300]
    return f"{type(error).__name__}: {error}"[:300] if not str(error) else str(error)[:300]


def _flat(detail: Any) -> str:
    if isinstance(detail, dict):
        return "; ".join(f"{name}: {_flat(value)}" for name, value in detail.items())
    if isinstance(detail, list):
        return "; ".join(_flat(part) for part in detail)
    return str(detail)


def _gone(item: Item, person: Person, remove: bool) -> Change:
    change = Change(item.kind, item.name, item.path, "removed" if remove and item.kind in TAKERS else "left")
    if change.becomes == "removed":
        try:
            with transaction.atomic():
                TAKERS[item.kind](item, person)
        except Refused as error:
            change.becomes, change.why = "refused", error.sentence
    return change


def _in_order(names: list[str], person: Person) -> None:
    """Routes in the order of the archive; others that have a place behind them."""
    placed = {d.name: d.pk for d in in_order().filter(place__isnull=False)}
    wanted = [placed[name] for name in names if name in placed]
    whole = [*wanted, *(ident for ident in placed.values() if ident not in wanted)]
    if whole != list(placed.values()):
        reorder(whole, person)


# making ---------------------------------------------------------------------------------------
def _row(item: Item) -> dict[str, str]:
    return next(csv.DictReader(io.StringIO(item.text)))


def _site(item: Item, person: Person) -> None:
    words = ("caretaker", "attended")
    data = {name: value if value != "" or name in words else None for name, value in _row(item).items()}
    _kept(SiteOut, Site.objects.filter(name=item.name).first(), data)


def _kept(serializer: Any, known: Any, data: Mapping[str, Any], **more: Any) -> Any:
    asked = serializer(known, data=data) if known is not None else serializer(data=data)
    asked.is_valid(raise_exception=True)
    return asked.save(**more)


def _type(item: Item, person: Person) -> None:
    known = DeviceType.objects.filter(key=item.name).first()
    data = json.loads(item.text)
    before = {s["name"]: s for s in known.setpoints} if known is not None else {}
    if known is not None:
        check_uses(known, data.get("fields", []), data.get("setpoints", []))
    type_ = _kept(TypeOut, known, data)
    now = {s["name"]: s for s in type_.setpoints}
    for name in before.keys() - now.keys():
        remove_setpoint(type_, name, person)
    for name, setpoint in now.items():
        if before.get(name) != setpoint:
            set_setpoint(type_, name, setpoint["value"], person)


def _setpoint(item: Item, person: Person) -> None:
    row = _row(item)
    type_, site = DeviceType.objects.filter(key=row["type"]).first(), Site.objects.filter(name=row["site"]).first()
    if type_ is None or site is None or row["setpoint"] not in {s["name"] for s in type_.setpoints}:
        raise ValueError("there is no such type, site or setpoint")
    set_setpoint(type_, row["setpoint"], float(row["value"]), person, site=site.pk)


def _fence(item: Item, person: Person) -> None:
    data = {"name": item.name, "feature": json.loads(item.text)}
    known = Fence.objects.filter(name=item.name).first()
    fence = _kept(FenceOut, known, data)
    if known is not None:
        fence.revise()


def _table(item: Item, person: Person) -> None:
    found = read(item.text)
    if found.refused:
        raise ValueError(f"line {found.refused[0]['line']}: {found.refused[0]['why']}")
    table = ReferenceTable.objects.filter(name=item.name).first() or ReferenceTable(name=item.name)
    keep(table, found, person)
    if table.pk:
        table.revise()
    else:
        table.save()


def _outlet(item: Item, person: Person) -> None:
    _revised(OutletOut, Outlet, json.loads(item.text))


def _revised(serializer: Any, model: Any, data: dict[str, Any]) -> None:
    known = model.objects.filter(name=data["name"]).first()
    thing = _kept(serializer, known, data)
    if known is not None:
        thing.revise()


def _definition(item: Item, person: Person) -> None:
    found = Definition.objects.filter(kind=item.kind, name__iexact=item.name).first()
    if item.kind == "decoder":
        found = Definition.objects.filter(kind="decoder", type__key=item.name).first() or found
    if found is None:
        key = item.name if item.kind == "decoder" else _first_type(item.text)
        type_ = DeviceType.objects.filter(key=key).first()
        if type_ is None:
            raise ValueError(f"there is no device type `{key}`")
        found = Definition.objects.create(kind=item.kind, name=item.name, type=type_)
    publish(found, item.text, person, WHY)


def _first_type(text: str) -> str:
    for line in text.split("\n"):
        words = line.replace(",", " ").split()
        if words[:1] == ["on"] and len(words) > 1:
            return words[4] if words[1:4] == ["each", "site", "of"] and len(words) > 4 else words[1]
    return ""


def _cases(item: Item, person: Person) -> None:
    """All cases of a decoder anew; they are run when its text is published next."""
    decoder = Definition.objects.filter(kind="decoder", type__key=item.name).first()
    if decoder is None:
        raise ValueError(f"there is no decoder of `{item.name}`")
    decoder.cases.all().delete()
    for line in item.text.split("\n"):
        if not line.strip():
            continue
        asked = CaseIn(data=json.loads(line))
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        Case.objects.create(
            definition=decoder,
            name=data["name"],
            payload=bytes.fromhex(data["payload_hex"]),
            received_at=data["received_at"],
            headers=data.get("headers") or {},
            constants=data.get("constants") or {},
            previous=bytes.fromhex(data["previous_hex"]) if data.get("previous_hex") else None,
            expect=data["expect"],
            person=person,
        )


def _instruction(item: Item, person: Person) -> None:
    Definition.objects.filter(kind="condition", name=item.name).update(instruction=item.text.rstrip()[:5000])


def _numbers(model: Any, names: list[str], what: str) -> list[int]:
    known = dict(model.objects.values_list("name", "pk"))
    strange = next((name for name in names if name not in known), None)
    if strange is not None:
        raise ValueError(f"there is no {what} “{strange}”")
    return [known[name] for name in names]


def _contact(item: Item, person: Person) -> None:
    data = json.loads(item.text)
    outlets = _numbers(Outlet, [a["outlet"] for a in data["addresses"]], "outlet")
    data["addresses"] = [
        {"outlet": number, "to": a["to"]} for number, a in zip(outlets, data["addresses"], strict=True)
    ]
    if data.get("rota"):
        rota = data["rota"]
        rota["weeks"] = _numbers(Contact, rota["weeks"], "contact")
        for exception in rota["exceptions"]:
            exception["contact"] = _numbers(Contact, [exception["contact"]], "contact")[0]
    _revised(ContactOut, Contact, data)


def _chain(item: Item, person: Person) -> None:
    data = json.loads(item.text)
    for step in data["steps"]:
        step["contacts"] = _numbers(Contact, step["contacts"], "contact")
    conditions = Definition.objects.filter(kind="condition")
    known = dict(conditions.values_list("name", "pk"))
    strange = next((name for name in data["conditions"] if name not in known), None)
    if strange is not None:
        raise ValueError(f"there is no condition “{strange}”")
    data["conditions"] = [known[name] for name in data["conditions"]]
    _revised(ChainOut, Chain, data)


MAKERS: dict[str, Callable[[Item, Person], None]] = {
    "site": _site,
    "type": _type,
    "setpoint": _setpoint,
    "fence": _fence,
    "table": _table,
    "outlet": _outlet,
    "decoder": _definition,
    "cases": _cases,
    "route": _definition,
    "condition": _definition,
    "instruction": _instruction,
    "contact": _contact,
    "chain": _chain,
}


# taking away: what devices and readings hang on stays ---------------------------------------------
def _retired(item: Item, person: Person) -> None:
    for definition in Definition.objects.filter(kind=item.kind, name=item.name, live__isnull=False):
        retire(definition, person)


def _no_setpoint(item: Item, person: Person) -> None:
    row = _row(item)
    for one in Setpoint.objects.filter(type__key=row["type"], site__name=row["site"], name=row["setpoint"]):
        set_setpoint(one.type, one.name, None, person, site=one.site_id)


def _no_fence(item: Item, person: Person) -> None:
    fence = Fence.objects.get(name=item.name)
    raise_where_used(fence, "removed")
    fence.delete()


def _no_table(item: Item, person: Person) -> None:
    users = looking_up(item.name)
    if users:
        raise Refused("in use", f"“{users[0]}” looks this table up", 409)
    control("table", {"name": item.name, "columns": [], "rows": None}, person)
    ReferenceTable.objects.filter(name=item.name).delete()


def _no_outlet(item: Item, person: Person) -> None:
    outlet = Outlet.objects.get(name=item.name)
    users = sending_to(outlet)
    used = [c.name for c in Contact.objects.all() if any(a["outlet"] == outlet.pk for a in c.addresses)]
    if users or used:
        raise Refused("in use", f"{(users or used)[0]} uses this outlet", 409)
    outlet.delete()


def _no_contact(item: Item, person: Person) -> None:
    contact = Contact.objects.get(name=item.name)
    used = [c.name for c in Chain.objects.all() if any(contact.pk in step["contacts"] for step in c.steps)]
    if used:
        raise Refused("in use", f"{used[0]} tells this contact", 409)
    contact.delete()


def _no_chain(item: Item, person: Person) -> None:
    Chain.objects.filter(name=item.name).delete()


TAKERS: dict[str, Callable[[Item, Person], None]] = {
    "route": _retired,
    "condition": _retired,
    "setpoint": _no_setpoint,
    "fence": _no_fence,
    "table": _no_table,
    "outlet": _no_outlet,
    "contact": _no_contact,
    "chain": _no_chain,
}
