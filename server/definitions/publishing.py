"""Publishing a text as a version, and putting it into the stream."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.utils import timezone

from oculum.language.conditions import check_condition
from oculum.language.decoders import check_decoder
from oculum.language.formatter import format_definition
from oculum.language.plan import ConditionPlan, DecoderPlan, FieldSpec
from oculum.language.problems import Problem
from server.access.models import Person, record
from server.fleet.models import Device, DeviceType
from server.fleet.registering import control

from .cases import failing
from .models import Definition, Hold, Rollout, Version
from .plans import published, specs, units
from .rollouts import Selection


class CasesFail(Exception):
    """The text is sound, but does not give what its cases expect."""

    def __init__(self, names: list[str]) -> None:
        super().__init__(
            f"{len(names)} case{'s fail' if len(names) != 1 else ' fails'}:"
            f" {', '.join(names[:5])}{' and more' if len(names) > 5 else ''}"
        )
        self.names = names


class Overtaken(Exception):
    """Somebody else has published, or kept a draft, since the text was begun."""

    def __init__(self, sentence: str, text: str, number: int | None, draft_number: int) -> None:
        super().__init__(sentence)
        self.text, self.number, self.draft_number = text, number, draft_number


@dataclass(frozen=True)
class Base:
    """What a text was begun from: the newest version then, and the count of the draft's changes. None: not said."""

    version: int | None = None
    draft_number: int | None = None


class NothingInForce(Exception):
    """A version can go to chosen devices first only where another is in force for the rest."""


class NotPublishable(Exception):
    """The text has errors."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__(problems[0].message if problems else "nothing to publish")
        self.problems = problems


def types_by_key() -> dict[str, tuple[dict[str, FieldSpec], dict[str, str]]]:
    return {t.key: (specs(t.fields), units(t.setpoints)) for t in DeviceType.objects.all()}


def check(kind: str, text: str, type_: DeviceType | None) -> tuple[DecoderPlan | ConditionPlan | None, list[Problem]]:
    """The plan of a draft, or its errors."""
    if kind == "decoder":
        return check_decoder(text, specs(type_.fields) if type_ else {}, type_.key if type_ else None, published)
    return check_condition(text, types_by_key())


def plain(spec: FieldSpec) -> dict[str, Any]:
    found = spec.as_dict()
    found["codes"] = {str(k): v for k, v in found["codes"].items()}
    return found


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

    brings and its type does not declare are declared with it. Raises NotPublishable, NothingInForce, Overtaken where
    `base` is not the newest state any more, and CasesFail unless that is what is wanted.
    """
    with transaction.atomic():
        definition = Definition.objects.select_for_update().get(pk=definition.pk)
        check_base(definition, base)
        type_ = DeviceType.objects.select_for_update().get(pk=definition.type_id)
        plan, problems = check(definition.kind, text, type_)
        if plan is None:
            raise NotPublishable(problems)
        text = format_definition(text)
        if isinstance(plan, ConditionPlan):
            type_ = DeviceType.objects.get(key=plan.device_type)
            if plan.name != definition.name:
                if (
                    Definition.objects.filter(kind="condition", name__iexact=plan.name)
                    .exclude(pk=definition.pk)
                    .exists()
                ):
                    raise NotPublishable([Problem(f"another condition is named “{plan.name}” already", _start())])
                definition.name = plan.name
            definition.type = type_
        elif isinstance(plan, DecoderPlan):
            bad = failing(definition, plan)
            if bad and not despite_cases:
                raise CasesFail(bad)
            declared = {f["name"] for f in type_.fields}
            fresh = [plain(spec) for spec in plan.all_fields if spec.name not in declared]
            if fresh:
                type_.fields = [*type_.fields, *fresh]
                type_.revise()
        number = (definition.versions.order_by("-number").values_list("number", flat=True).first() or 0) + 1
        version = Version.objects.create(
            definition=definition,
            number=number,
            text=text,
            fields=type_.fields,
            setpoints=type_.setpoints,
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
    definition.save()
    Rollout.objects.filter(definition=definition).delete()
    control("publish", {"definition": definition.pk, "version": version.pk}, person)


def _start() -> Any:
    from oculum.language.problems import Span

    return Span(1, 1, 2)


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

    Raises NothingInForce.
    """
    with transaction.atomic():
        if definition.kind != "decoder" or definition.live_id is None:
            raise NothingInForce
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
        record(person, "rolled out", f"decoder {definition.name}", {"version": version.number, **selection.as_dict()})
    return rollout


def withdraw(definition: Definition, person: Person | None) -> bool:
    """The chosen devices have the version in force again. False if no rollout was under way."""
    with transaction.atomic():
        rollout = Rollout.objects.filter(definition=definition).select_related("version").first()
        if rollout is None:
            return False
        rollout.delete()
        control("rollout", {"definition": definition.pk, "type": definition.type_id, "version": None}, person)
        record(person, "withdrew", f"decoder {definition.name}", {"version": rollout.version.number})
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
    from server.alarms.models import Alarm

    type_ = definition.type
    conditions = Definition.objects.filter(kind="condition", type=type_, live__isnull=False)
    if definition.kind == "condition":
        conditions = conditions.filter(pk=definition.pk)
    return {
        "devices": type_.devices.count(),
        "conditions": conditions.count(),
        "open_alarms": Alarm.objects.filter(condition__in=conditions, cleared_at=None).count(),
        "routes": 0,
    }


def retire(definition: Definition, person: Person | None) -> None:
    """Takes a definition out of force; its versions and alarms stay on record."""
    with transaction.atomic():
        definition.live, definition.retired = None, True
        definition.save()
        Rollout.objects.filter(definition=definition).delete()
        Hold.objects.filter(version__definition=definition).delete()
        control(
            "retire",
            {"definition": definition.pk, "versions": list(definition.versions.values_list("pk", flat=True))},
            person,
        )
        record(person, "retired", f"{definition.kind} {definition.name}")
