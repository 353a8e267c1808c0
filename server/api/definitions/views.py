"""Drafts, checking, trying out, publishing."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import OuterRef, QuerySet, Subquery
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.checks import NAMES as CHECKS
from oculum.language.decoders import DECODER
from oculum.language.decoders.plan import DecoderPlan
from oculum.language.definitions import KINDS, form, format_definition
from oculum.language.problems import DefinitionError, Problem
from oculum.quantities import units_in_words
from server.api.definitions.serial import (
    AgainIn,
    AgainOut,
    AgainState,
    DefinitionOut,
    DraftIn,
    PublishIn,
    VersionOut,
    selection_of,
)
from server.api.definitions.text_shapes import (
    CheckIn,
    CheckOut,
    DecodeIn,
    DecodeOut,
    FormatIn,
    FormatOut,
    FormIn,
    FormOut,
    LanguageOut,
)
from server.records.again.models import DecodeAgain
from server.records.alarms.models import Alarm
from server.records.definitions.models import Definition, Version
from server.records.fleet.models import DeviceType
from server.records.people.models import Person, record
from server.requests.authentication import person_of
from server.requests.moments import LOOKBACK, as_then, moment_asked
from server.rules.alarms import open_at
from server.rules.all_kinds import RULES
from server.rules.kinds import NotFirst
from server.rules.publishing import (
    Base,
    CasesFail,
    NothingInForce,
    NotPublishable,
    Overtaken,
    check,
    drafted_meanwhile,
    publish,
    retire,
)
from server.rules.refusal import Refused
from server.rules.uses import takes_away
from server.store.counts import how_many
from server.store.refused import refused_today
from server.trials.past import explain

UNFINISHED = ["waiting", "running", "paused"]
MOST_JOBS = 20


def problems_of(problems: list[Problem]) -> list[dict[str, object]]:
    return [p.as_dict() for p in problems]


def type_of(key: str | None) -> DeviceType | None:
    return DeviceType.objects.filter(key=key).first() if key else None


def definitions() -> QuerySet[Definition]:
    """Definitions with what their rows show besides."""
    last = Version.objects.filter(definition=OuterRef("pk")).order_by("-number").values("number")[:1]
    return Definition.objects.select_related(
        "type", "live", "live__person", "rollout__version", "draft_by", "off_by"
    ).annotate(last_number=Subquery(last))


class DefinitionsView(generics.ListCreateAPIView):
    """Decoders and conditions."""

    serializer_class = DefinitionOut

    def get_queryset(self) -> Any:
        at = moment_asked(self.request, "to")
        until = at or timezone.now()
        found = definitions().annotate(
            open_alarms=how_many(open_at(Alarm.objects.filter(condition=OuterRef("pk")), at), "condition"),
            refused_today=refused_today(until, waiting=False),
            waiting_today=refused_today(until, waiting=True),
        )
        kind = self.request.query_params.get("kind")
        return (found.filter(kind=kind) if kind else found).order_by("kind", "name")

    @extend_schema(parameters=[OpenApiParameter("kind", str), *LOOKBACK[1:]])
    @as_then
    def get(self, request: Request, *args: Any, **kwargs: Any) -> Response:
        return super().get(request, *args, **kwargs)

    def perform_create(self, serializer: Any) -> None:
        try:
            with transaction.atomic():
                definition = serializer.save()
        except IntegrityError:
            raise Refused(
                "exists",
                f"there is a {serializer.validated_data['kind']} of this name, or for this device type, already",
                409,
            ) from None
        record(person_of(self.request), "began definition", f"{definition.kind} {definition.name}")


class DefinitionView(APIView):
    """One definition with its draft and its live version."""

    @extend_schema(responses=DefinitionOut, operation_id="definition", tags=["definitions"])
    def get(self, request: Request, ident: int) -> Response:
        return Response(DefinitionOut(self.find(ident)).data)

    @extend_schema(request=DraftIn, responses=DefinitionOut, operation_id="save_draft", tags=["definitions"])
    def patch(self, request: Request, ident: int) -> Response:
        """Keeps a draft, unless somebody else changed it since `draft_number`."""
        asked = DraftIn(data=request.data)
        asked.is_valid(raise_exception=True)
        number = asked.validated_data["draft_number"]
        changed = Definition.objects.filter(pk=ident, draft_number=number).update(
            draft=asked.validated_data["draft"],
            draft_number=number + 1,
            draft_by=person_of(request),
            draft_at=timezone.now(),
        )
        if not changed:
            now = self.find(ident)
            raise Refused(
                "changed meanwhile",
                drafted_meanwhile(now),
                409,
                theirs={"text": now.draft, "draft_number": now.draft_number, "version": None},
            )
        return Response(DefinitionOut(self.find(ident)).data)

    @staticmethod
    def find(ident: int) -> Definition:
        return generics.get_object_or_404(definitions(), pk=ident)


def decoder_of(ident: int, why: str) -> Definition:
    """A decoder; raises Refused with `why` where it is another kind."""
    definition = DefinitionView.find(ident)
    if definition.kind != DECODER.name:
        raise Refused("invalid", why)
    return definition


def versioned(ident: int, why: str) -> Definition:
    """A definition of which devices may have different versions; raises Refused with `why` where it is another."""
    definition = DefinitionView.find(ident)
    if RULES[definition.kind].give_first is None:
        raise Refused("invalid", why)
    return definition


def sound(text: str, type_: DeviceType | None) -> DecoderPlan:
    """The plan of a decoder's text; raises Refused with its problems where it has some."""
    plan, problems = check("decoder", text, type_)
    if not isinstance(plan, DecoderPlan):
        raise Refused(
            "definition", problems[0].message if problems else "this is no decoder", problems=problems_of(problems)
        )
    return plan


def bytes_of(text: str, name: str) -> bytes:
    try:
        return bytes.fromhex(text)
    except ValueError:
        raise Refused("invalid", f"{name}: two hexadecimal digits a byte are expected") from None


class VersionsView(generics.ListAPIView):
    """The versions of a definition, newest first."""

    serializer_class = VersionOut

    def get_queryset(self) -> Any:
        return Version.objects.filter(definition_id=self.kwargs["ident"]).select_related("person").order_by("-number")


class CheckView(APIView):
    """Every mistake of a draft, with its place and where possible a fix."""

    writes = "viewer"

    @extend_schema(request=CheckIn, responses=CheckOut, operation_id="check", tags=["definitions"])
    def post(self, request: Request) -> Response:
        asked = CheckIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        plan, problems = check(data["kind"], data["text"], type_of(data.get("type")))
        nothing: dict[str, Any] = {
            "fields": [],
            "limits": [],
            "draws": None,
            "type": None,
            "priority": None,
            "sentence": None,
            "source": None,
            "needs_before": False,
            "lines": [],
            "takes_away": [],
        }
        rules = RULES[data["kind"]]
        facts = rules.facts(plan) if plan is not None else {}
        if plan is not None and rules.kind.says is not None:
            facts = facts | {"sentence": rules.kind.says(plan)}
        if plan is not None:
            facts = facts | {"takes_away": takes_away(plan, type_of(data.get("type")))}
        return Response(nothing | facts | {"problems": problems_of(problems), "good": plan is not None})


class FormView(APIView):
    """One line of a draft as a form: its parts with their columns, and what could stand there besides."""

    writes = "viewer"

    @extend_schema(request=FormIn, responses=FormOut, operation_id="form", tags=["definitions"])
    def post(self, request: Request) -> Response:
        asked = FormIn(data=request.data)
        asked.is_valid(raise_exception=True)
        found = form(asked.validated_data["text"], asked.validated_data["line"])
        return Response({"form": found.as_dict() if found is not None else None})


class FormatView(APIView):
    """The canonical layout of a text."""

    writes = "viewer"

    @extend_schema(request=FormatIn, responses=FormatOut, operation_id="format", tags=["definitions"])
    def post(self, request: Request) -> Response:
        asked = FormatIn(data=request.data)
        asked.is_valid(raise_exception=True)
        try:
            return Response({"text": format_definition(asked.validated_data["text"])})
        except DefinitionError as error:
            raise Refused("definition", str(error), problems=problems_of(error.problems)) from None


class DecodeView(APIView):
    """One payload through a draft: values, and the bits or places they came from."""

    writes = "viewer"

    @extend_schema(request=DecodeIn, responses=DecodeOut, operation_id="decode", tags=["definitions"])
    def post(self, request: Request) -> Response:
        asked = DecodeIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        payload = bytes_of(data["payload_hex"], "payload_hex")
        previous = bytes_of(data["previous_hex"], "previous_hex") if data.get("previous_hex") else None
        plan = sound(data["text"], type_of(data.get("type")))
        at = data.get("received_at") or timezone.now()
        return Response(
            explain(plan, payload, int(at.timestamp() * 1e6), data.get("headers"), data.get("constants"), previous)
        )


class PublishView(APIView):
    """Makes the text the next version and puts it in force."""

    @extend_schema(request=PublishIn, responses=DefinitionOut, operation_id="publish", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        definition = DefinitionView.find(ident)
        asked = PublishIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        first = selection_of(data["first"]) if data.get("first") else None
        base = Base(data.get("base"), data.get("draft_number"))
        person = person_of(request)
        try:
            publish(definition, data["text"], person, data.get("why", ""), data["despite_cases"], first, base)
        except Overtaken as error:
            theirs = {"text": error.text, "draft_number": error.draft_number, "version": error.number}
            raise Refused("changed meanwhile", str(error), 409, theirs=theirs) from None
        except NothingInForce:
            raise Refused(
                "nothing in force", "no version is in force for the other devices; publish this one for all", 409
            ) from None
        except NotFirst as error:
            raise Refused("invalid", str(error)) from None
        except CasesFail as error:
            raise Refused("cases fail", str(error), 409, names=error.names) from None
        except NotPublishable as error:
            raise Refused("definition", str(error), problems=problems_of(error.problems)) from None
        return Response(DefinitionOut(DefinitionView.find(ident)).data, 201)


class RetireView(APIView):
    """Takes a definition out of force."""

    @extend_schema(request=None, responses=DefinitionOut, operation_id="retire", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        retire(DefinitionView.find(ident), person_of(request))
        return Response(DefinitionOut(DefinitionView.find(ident)).data)


class DecodeAgainView(APIView):
    """Runs messages of a type once more through the decoder in force, in the background: the refused ones, or all of a
    span of arrival.
    """

    @extend_schema(responses=AgainOut, operation_id="decoding_again", tags=["definitions"])
    def get(self, request: Request, key: str) -> Response:
        """The job that is under way or comes next, else the last one."""
        jobs = DecodeAgain.objects.filter(type__key=key).order_by("id")
        waiting = list(jobs.filter(state__in=UNFINISHED)[:MOST_JOBS])
        job = next((j for j in waiting if j.state == "running"), waiting[0] if waiting else jobs.last())
        if job is None:
            nothing = dict.fromkeys(AgainOut.Meta.fields) | {"id": 0, "state": "none", "reason": ""}
            return Response(nothing | {"total": 0, "done": 0, "decoded": 0, "behind": 0})
        return Response(AgainOut(job).data | {"behind": max(len(waiting) - 1, 0)})

    @extend_schema(request=AgainIn, responses=AgainOut, operation_id="decode_again", tags=["definitions"])
    def post(self, request: Request, key: str) -> Response:
        type_ = generics.get_object_or_404(DeviceType, key=key)
        asked = AgainIn(data=request.data or {})
        asked.is_valid(raise_exception=True)
        """Begins it, or puts it behind what is under way. Asked twice for the same, it is done once."""
        span = {"start": asked.validated_data.get("start"), "end": asked.validated_data.get("end")}
        person: Person = person_of(request)
        with transaction.atomic():
            DeviceType.objects.select_for_update().get(pk=type_.pk)
            unfinished = DecodeAgain.objects.filter(type=type_, state__in=UNFINISHED)
            job = unfinished.filter(**span).first()
            if job is None:
                if unfinished.count() >= MOST_JOBS:
                    raise Refused("too many", f"{MOST_JOBS} of this type wait already; cancel them or wait", 429)
                job = DecodeAgain.objects.create(type=type_, person=person, **span)
                record(person, "decoded again", key, {name: str(value or "") for name, value in span.items()})
            behind = unfinished.exclude(pk=job.pk).count()
        return Response(AgainOut(job).data | {"behind": behind}, 202)

    @extend_schema(request=AgainState, responses=AgainOut, operation_id="pause_decoding_again", tags=["definitions"])
    def patch(self, request: Request, key: str) -> Response:
        """Pauses the work, or goes on with it."""
        asked = AgainState(data=request.data)
        asked.is_valid(raise_exception=True)
        wanted = asked.validated_data["state"]
        DecodeAgain.objects.filter(
            type__key=key, state__in=["waiting", "running"] if wanted == "paused" else ["paused"]
        ).update(state=wanted)
        return self.get(request, key)

    @extend_schema(responses=AgainOut, operation_id="cancel_decoding_again", tags=["definitions"])
    def delete(self, request: Request, key: str) -> Response:
        """Cancels what is under way, and what waits behind it."""
        DecodeAgain.objects.filter(type__key=key, state__in=UNFINISHED).update(state="cancelled")
        return self.get(request, key)


class LanguageView(APIView):
    """Words that the editor completes."""

    @extend_schema(responses=LanguageOut, operation_id="language", tags=["definitions"])
    def get(self, request: Request) -> Response:
        return Response(
            {
                "functions": [
                    {"name": name, "words": words, "kind": kind.name}
                    for kind in KINDS
                    for name, words in kind.words.items()
                ],
                "checks": list(CHECKS),
                "units": [asdict(unit) for unit in units_in_words()],
            }
        )
