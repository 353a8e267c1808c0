"""Publishing a text as a version, and putting it into the stream."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import transaction
from django.utils import timezone

from oculum.errors import OculumError
from oculum.language.definitions import EDITION, format_definition
from oculum.language.kinds import Surroundings
from oculum.language.problems import Problem
from server.records.definitions.models import Definition, Hold, Rollout, Version
from server.records.fleet.models import Device, DeviceType, Fence, Site
from server.records.people.models import Person, record
from server.records.telling.models import Outlet
from server.rules.all_kinds import RULES
from server.rules.decoders import CasesFail as CasesFail
from server.rules.kinds import NotPublishable as NotPublishable
from server.rules.plans import published, units
from server.rules.registering import control
from server.rules.routes import table_specs
from server.rules.selection import Selection
from server.store.rows import specs


class Overtaken(OculumError):
    """Somebody else has published, or kept a draft, since the text was begun."""

    def __init__(self, sentence: str, text: str, number: int | None, draft_number: int) -> None:
        super().__init__(sentence)
        self.text, self.number, self.draft_number = text, number, draft_number


@dataclass(frozen=True)
class Base:
    """What a text was begun from: the newest version then, and the count of the draft's changes. None: not said."""

    version: int | None = None
    draft_number: int | None = None


class NothingInForce(OculumError):
    """A version can go to chosen devices first only where another is in force for the rest."""


def check(kind: str, text: str, type_: DeviceType | None) -> tuple[Any, list[Problem]]:
    """The plan of a draft, or its errors."""
    types = list(DeviceType.objects.all())
    around = Surroundings(
        {t.key: specs(t.fields) for t in types},
        {t.key: units(t.setpoints) for t in types},
        type_.key if type_ else None,
        published,
        set(Fence.objects.values_list("name", flat=True)),
        set(Site.objects.values_list("name", flat=True)),
        set(Outlet.objects.exclude(kind="mail").values_list("name", flat=True)),
        table_specs(),
    )
    return RULES[kind].kind.check(text, around)


def publish(
    definition: Definition,
    text: str,
    person: Person | None,
    why: str = "",
    despite_cases: bool = False,
    first: Selection | None = None,
    base: Base | None = None,
) -> Version:
    """The next version, in force for all devices, or for those chosen to have it first. Fields that a decoder

    brings and its type does not declare are declared with it. Raises NotPublishable, NothingInForce, NotFirst,
    Overtaken where `base` is not the newest state any more, and CasesFail unless that is what is wanted.
    """
    with transaction.atomic():
        definition = Definition.objects.select_for_update().get(pk=definition.pk)
        check_base(definition, base)
        type_ = DeviceType.objects.select_for_update().get(pk=definition.type_id)
        plan, problems = check(definition.kind, text, type_)
        if plan is None:
            raise NotPublishable(problems)
        text = format_definition(text)
        type_ = RULES[definition.kind].before_publishing(definition, plan, type_, despite_cases)
        fields, setpoints = RULES[definition.kind].kept(plan, type_)
        number = (definition.versions.order_by("-number").values_list("number", flat=True).first() or 0) + 1
        version = Version.objects.create(
            definition=definition,
            number=number,
            text=text,
            edition=EDITION,
            fields=fields,
            setpoints=setpoints,
            person=person,
            why=why,
        )
        definition.draft, definition.draft_number = text, definition.draft_number + 1
        definition.draft_by, definition.draft_at = person, timezone.now()
        if first is not None:
            definition.save()
            give_first(definition, version, first, person)
        else:
            put(definition, version, person)
        record(person, "published", f"{definition.kind} {definition.name}", {"version": number, "why": why})
    return version


def check_base(definition: Definition, base: Base | None) -> None:
    """Raises Overtaken. The definition is locked."""
    if base is None:
        return
    newest = definition.versions.select_related("person").order_by("-number").first()
    if base.version is not None and newest is not None and newest.number > base.version:
        by = who(newest.person)
        sentence = f"{by} published version {newest.number} meanwhile; look at the difference before you go on"
        raise Overtaken(sentence, newest.text, newest.number, definition.draft_number)
    if base.draft_number is not None and base.draft_number != definition.draft_number:
        raise Overtaken(drafted_meanwhile(definition), definition.draft, None, definition.draft_number)


def who(person: Person | None) -> str:
    return person.called if person is not None else "Oculum"


def drafted_meanwhile(definition: Definition) -> str:
    return f"{who(definition.draft_by) if definition.draft_by else 'somebody else'} changed this draft meanwhile"


def put(definition: Definition, version: Version, person: Person | None) -> None:
    """A version in force for all devices but those held on another one; a rollout is over with it."""
    definition.live, definition.retired = version, False
    definition.off_until, definition.off_why, definition.off_by = None, "", None
    definition.save()
    Rollout.objects.filter(definition=definition).delete()
    control("publish", {"definition": definition.pk, "version": version.pk}, person)


def put_in_force(definition: Definition, number: int, person: Person | None) -> Version:
    """An earlier version in force again; versions themselves never change. Raises Version.DoesNotExist."""
    with transaction.atomic():
        definition = Definition.objects.select_for_update().get(pk=definition.pk)
        version = definition.versions.get(number=number)
        put(definition, version, person)
        record(person, "put in force", f"{definition.kind} {definition.name}", {"version": number})
    return version


def give_first(definition: Definition, version: Version, selection: Selection, person: Person | None) -> Rollout:
    """A version for chosen devices before the others have it; also widens or narrows which ones.

    Raises NothingInForce, NotFirst.
    """
    with transaction.atomic():
        if RULES[definition.kind].give_first is None or definition.live_id is None:
            raise NothingInForce
        RULES[definition.kind].may_go_first(definition, version)
        rollout, _ = Rollout.objects.update_or_create(
            definition=definition,
            defaults={
                "version": version,
                "labels": dict(selection.labels),
                "site_id": selection.site,
                "share": selection.share,
                "person": person,
            },
        )
        control(
            "rollout",
            {"definition": definition.pk, "type": definition.type_id, "version": version.pk} | selection.as_dict(),
            person,
        )
        record(
            person,
            "rolled out",
            f"{definition.kind} {definition.name}",
            {"version": version.number, **selection.as_dict()},
        )
    return rollout


def withdraw(definition: Definition, person: Person | None) -> bool:
    """The chosen devices have the version in force again. False if no rollout was under way."""
    with transaction.atomic():
        rollout = Rollout.objects.filter(definition=definition).select_related("version").first()
        if rollout is None:
            return False
        rollout.delete()
        control("rollout", {"definition": definition.pk, "type": definition.type_id, "version": None}, person)
        record(person, "withdrew", f"{definition.kind} {definition.name}", {"version": rollout.version.number})
    return True


def hold(device: Device, version: Version | None, why: str, person: Person | None) -> None:
    """A device stays on a version; None lets it go."""
    with transaction.atomic():
        if version is None:
            Hold.objects.filter(device=device).delete()
        else:
            Hold.objects.update_or_create(device=device, defaults={"version": version, "why": why, "person": person})
        control("hold", {"device": device.pk, "version": version.pk if version else None}, person)
        about = {"version": version.number if version else None, "why": why}
        record(person, "held" if version else "let go", f"device {device.name}", about)


def effect(definition: Definition) -> dict[str, int]:
    """What a publish touches: devices, conditions in force, open alarms, routes."""
    types = list(definition.on.all()) or [definition.type]
    return {
        "devices": Device.objects.filter(type__in=types).count(),
        "routes": Definition.objects.filter(kind="route", on__in=types, live__isnull=False).distinct().count(),
        **RULES[definition.kind].touches(definition),
    }


def retire(definition: Definition, person: Person | None) -> None:
    """Takes a definition out of force; its versions and alarms stay on record."""
    with transaction.atomic():
        definition.live, definition.retired = None, True
        definition.off_until, definition.off_why, definition.off_by = None, "", None
        definition.save()
        Rollout.objects.filter(definition=definition).delete()
        Hold.objects.filter(version__definition=definition).delete()
        control(
            "retire",
            {"definition": definition.pk, "versions": list(definition.versions.values_list("pk", flat=True))},
            person,
        )
        record(person, "retired", f"{definition.kind} {definition.name}")


def switch_off(definition: Definition, until: datetime, why: str, person: Person | None) -> None:
    """A condition stays in force but does not watch until a moment: its alarms are cleared with the reason.

    The engine switches it on again. Raises NothingInForce.
    """
    with transaction.atomic():
        definition = Definition.objects.select_for_update().get(pk=definition.pk)
        if definition.kind != "condition" or definition.live_id is None:
            raise NothingInForce
        definition.off_until, definition.off_why, definition.off_by = until, why, person
        definition.save()
        Rollout.objects.filter(definition=definition).delete()
        control("off", {"definition": definition.pk, "why": why}, person)
        about = {"until": until.isoformat(timespec="minutes"), "why": why}
        record(person, "switched off", f"condition {definition.name}", about)


def switch_on(definition: Definition, person: Person | None) -> None:
    """A condition that is switched off watches again from now on."""
    with transaction.atomic():
        definition = Definition.objects.select_for_update().get(pk=definition.pk)
        if definition.off_until is None or definition.live is None:
            return
        put(definition, definition.live, person)
        record(person, "switched on", f"condition {definition.name}")
