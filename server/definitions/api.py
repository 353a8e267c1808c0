"""Drafts, checking, trying out, publishing."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import Count, OuterRef, Q, QuerySet, Subquery
from django.db.models.expressions import RawSQL
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.decoding.checksums import NAMES as CHECKS
from oculum.language import limits
from oculum.language.form import form
from oculum.language.formatter import format_definition
from oculum.language.functions import FUNCTIONS
from oculum.language.plan import ConditionPlan, DecoderPlan
from oculum.language.problems import DefinitionError, Problem
from oculum.quantities import known_codes
from server.access.authentication import person_of
from server.access.errors import Refused
from server.access.models import Person, record
from server.fleet.models import DeviceType, Site
from server.history.models import DecodeAgain
from server.trials.past import Span, condition_trial, decoder_trial, explain

from .models import Definition, Version
from .plans import decoder_plan
from .publishing import CasesFail, NothingInForce, NotPublishable, check, plain, publish, retire
from .rollouts import Selection

TEXT: dict[str, Any] = {"max_length": limits.SOURCE_CHARACTERS, "allow_blank": True, "trim_whitespace": False}


class ProblemOut(serializers.Serializer):
    message = serializers.CharField()
    severity = serializers.CharField()
    line = serializers.IntegerField()
    column = serializers.IntegerField()
    end_column = serializers.IntegerField()
    fix = serializers.CharField(allow_null=True)


class FieldSpecOut(serializers.Serializer):
    name = serializers.CharField()
    kind = serializers.CharField()
    unit = serializers.CharField(allow_null=True)


class LimitAt(serializers.Serializer):
    field = serializers.CharField()
    sign = serializers.CharField()
    setpoint = serializers.CharField(allow_null=True)
    number = serializers.FloatField(allow_null=True)
    unit = serializers.CharField(allow_null=True)
    line = serializers.IntegerField()
    column = serializers.IntegerField()
    end_column = serializers.IntegerField()


class CheckIn(serializers.Serializer):
    kind = serializers.ChoiceField(["decoder", "condition"])
    text = serializers.CharField(**TEXT)
    type = serializers.CharField(required=False, allow_null=True)


class CheckOut(serializers.Serializer):
    problems = ProblemOut(many=True)
    good = serializers.BooleanField()
    fields = FieldSpecOut(many=True)  # type: ignore[assignment]
    limits = LimitAt(many=True)
    type = serializers.CharField(allow_null=True)
    priority = serializers.CharField(allow_null=True)
    source = serializers.CharField(allow_null=True)  # type: ignore[assignment]
    needs_before = serializers.BooleanField(help_text="whether it speaks of the message before")


class FormIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)
    line = serializers.IntegerField(min_value=1, max_value=limits.SOURCE_CHARACTERS)


class SlotOut(serializers.Serializer):
    label = serializers.CharField()  # type: ignore[assignment]
    column = serializers.IntegerField()
    end_column = serializers.IntegerField()
    text = serializers.CharField()
    kind = serializers.ChoiceField(["text", "choice", "word"])
    options = serializers.ListField(child=serializers.CharField())
    prefix = serializers.CharField()
    whole = serializers.IntegerField(help_text="the column from which it is taken out")
    optional = serializers.BooleanField()
    what = serializers.CharField(help_text="unit, field, type, or nothing")


class LineForm(serializers.Serializer):
    title = serializers.CharField()
    line = serializers.IntegerField()
    slots = SlotOut(many=True)


class FormOut(serializers.Serializer):
    form = LineForm(allow_null=True)


class FormatIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)


class FormatOut(serializers.Serializer):
    text = serializers.CharField()


class DecodeIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)
    type = serializers.CharField(required=False, allow_null=True)
    payload_hex = serializers.CharField(max_length=140_000, allow_blank=True)
    received_at = serializers.DateTimeField(required=False)
    headers = serializers.DictField(child=serializers.CharField(max_length=400, allow_blank=True), required=False)
    constants = serializers.DictField(child=serializers.JSONField(), required=False)
    previous_hex = serializers.CharField(max_length=140_000, required=False, allow_null=True)


class PlaceOut(serializers.Serializer):
    first = serializers.IntegerField()
    last = serializers.IntegerField()
    high = serializers.IntegerField()
    low = serializers.IntegerField()
    whole = serializers.BooleanField()
    little = serializers.BooleanField()


class MarkOut(serializers.Serializer):
    line = serializers.IntegerField()
    field = serializers.CharField()
    turn = serializers.IntegerField()
    places = PlaceOut(many=True)
    raw = serializers.ListField(child=serializers.JSONField(allow_null=True), allow_null=True)
    paths = serializers.ListField(child=serializers.CharField())
    spots = serializers.ListField(child=serializers.ListField(child=serializers.JSONField()))


class ReadingOut(serializers.Serializer):
    field = serializers.CharField()
    kind = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    value = serializers.JSONField(allow_null=True)
    text = serializers.CharField(allow_null=True)
    missing = serializers.CharField(allow_null=True)
    at = serializers.DateTimeField()
    device = serializers.CharField(allow_null=True)


class PartOut(serializers.Serializer):
    part = serializers.CharField()
    device = serializers.CharField(allow_null=True)
    error = serializers.CharField()
    message = serializers.CharField()
    line = serializers.IntegerField()


class DecodeError(serializers.Serializer):
    code = serializers.CharField()
    message = serializers.CharField()
    line = serializers.IntegerField()
    byte = serializers.IntegerField(allow_null=True)


class DecodeOut(serializers.Serializer):
    values = ReadingOut(many=True)
    marks = MarkOut(many=True)
    error = DecodeError(allow_null=True)
    unread = serializers.IntegerField()
    tail = serializers.IntegerField()
    untaken = serializers.ListField(child=serializers.IntegerField(), help_text="lines that this message did not take")
    parts = PartOut(many=True)
    received_at = serializers.DateTimeField()
    document = serializers.JSONField(allow_null=True)


class VersionOut(serializers.ModelSerializer):
    who = serializers.SerializerMethodField()

    class Meta:
        model = Version
        fields = ["id", "number", "text", "at", "why", "who"]

    def get_who(self, version: Version) -> str:
        return version.person.first_name or version.person.username if version.person else "the demo"


class DefinitionOut(serializers.ModelSerializer):
    type = serializers.SlugRelatedField(slug_field="key", queryset=DeviceType.objects.all())
    type_title = serializers.CharField(source="type.title", read_only=True)
    live = VersionOut(read_only=True, allow_null=True)
    open_alarms = serializers.IntegerField(read_only=True, required=False)
    refused_today = serializers.IntegerField(read_only=True, required=False)
    rolling_out = serializers.SerializerMethodField()
    last_number = serializers.IntegerField(read_only=True, allow_null=True)

    class Meta:
        model = Definition
        fields = ["id", "kind", "name", "type", "type_title", "draft", "draft_number", "live", "retired", "open_alarms", "refused_today", "rolling_out", "last_number"]
        read_only_fields = ["draft_number", "retired"]
        extra_kwargs = {"draft": {"trim_whitespace": False}}

    def get_rolling_out(self, definition: Definition) -> int | None:
        return definition.rollout.version.number if hasattr(definition, "rollout") else None


class DraftIn(serializers.Serializer):
    draft = serializers.CharField(**TEXT)
    draft_number = serializers.IntegerField()


class SelectionIn(serializers.Serializer):
    """Devices with all the labels, at the site or below it, of the share: all three hold at once."""

    labels = serializers.DictField(child=serializers.CharField(max_length=100), required=False)
    site = serializers.SlugRelatedField(slug_field="name", queryset=Site.objects.all(), required=False, allow_null=True)
    share = serializers.IntegerField(min_value=1, max_value=100, required=False, default=100, help_text="percent of them")


def selection_of(data: dict[str, Any]) -> Selection:
    return Selection.of({"labels": data.get("labels"), "site": data["site"].pk if data.get("site") else None, "share": data.get("share")})


class PublishIn(serializers.Serializer):
    first = SelectionIn(required=False, allow_null=True, help_text="only these devices have the version at first")
    text = serializers.CharField(**TEXT)
    despite_cases = serializers.BooleanField(required=False, default=False)
    why = serializers.CharField(max_length=300, required=False, allow_blank=True)


class TrialIn(serializers.Serializer):
    text = serializers.CharField(**TEXT)
    messages = serializers.IntegerField(min_value=1, max_value=100_000, default=5_000)
    days = serializers.FloatField(min_value=0.01, max_value=31, default=7)


class TrialReason(serializers.Serializer):
    code = serializers.CharField()
    message = serializers.CharField()
    line = serializers.IntegerField()
    count = serializers.IntegerField()
    example = serializers.CharField()


class Distribution(serializers.Serializer):
    low = serializers.FloatField()
    high = serializers.FloatField()
    middle = serializers.FloatField()
    counts = serializers.ListField(child=serializers.IntegerField())


class TrialField(serializers.Serializer):
    field = serializers.CharField()
    kind = serializers.CharField()
    unit = serializers.CharField(allow_null=True)
    distribution = Distribution(allow_null=True)
    values = serializers.IntegerField()
    missing = serializers.IntegerField()
    differ = serializers.IntegerField(allow_null=True)
    state = serializers.ChoiceField(["same", "new", "lost"])
    low = serializers.FloatField(allow_null=True)
    high = serializers.FloatField(allow_null=True)


class DecoderTrialOut(serializers.Serializer):
    messages = serializers.IntegerField()
    decoded = serializers.IntegerField()
    failed = serializers.IntegerField()
    partly = serializers.IntegerField()
    decoded_before = serializers.IntegerField(allow_null=True)
    reasons = TrialReason(many=True)
    fields = TrialField(many=True)  # type: ignore[assignment]


class TrialSpan(serializers.Serializer):
    device = serializers.CharField()
    raised_at = serializers.DateTimeField()
    cleared_at = serializers.DateTimeField(allow_null=True)
    value = serializers.FloatField(allow_null=True)
    limit = serializers.FloatField(allow_null=True)


class DeviceCount(serializers.Serializer):
    device = serializers.CharField()
    count = serializers.IntegerField()


class DayCount(serializers.Serializer):
    day = serializers.CharField()
    count = serializers.IntegerField()


class ConditionTrialOut(serializers.Serializer):
    messages = serializers.IntegerField()
    devices = serializers.IntegerField()
    raised = serializers.IntegerField()
    still_open = serializers.IntegerField()
    devices_raised = serializers.IntegerField()
    by_device = DeviceCount(many=True)
    by_day = DayCount(many=True)
    spans = TrialSpan(many=True)


class TrialOut(serializers.Serializer):
    decoder = DecoderTrialOut(required=False)
    condition = ConditionTrialOut(required=False)
    seconds = serializers.FloatField()


class AgainOut(serializers.ModelSerializer):
    class Meta:
        model = DecodeAgain
        fields = ["id", "state", "total", "done", "decoded", "asked_at", "start", "end"]


class FunctionOut(serializers.Serializer):
    name = serializers.CharField()
    words = serializers.CharField()


class LanguageOut(serializers.Serializer):
    functions = FunctionOut(many=True)
    checks = serializers.ListField(child=serializers.CharField())
    units = serializers.ListField(child=serializers.CharField())


def problems_of(problems: list[Problem]) -> list[dict[str, object]]:
    return [p.as_dict() for p in problems]


def type_of(key: str | None) -> DeviceType | None:
    return DeviceType.objects.filter(key=key).first() if key else None


def definitions() -> QuerySet[Definition]:
    """Definitions with what their rows show besides."""
    last = Version.objects.filter(definition=OuterRef("pk")).order_by("-number").values("number")[:1]
    return Definition.objects.select_related("type", "live", "live__person", "rollout__version").annotate(last_number=Subquery(last))


class DefinitionsView(generics.ListCreateAPIView):
    """Decoders and conditions."""

    serializer_class = DefinitionOut

    def get_queryset(self) -> Any:
        found = definitions().annotate(
            open_alarms=Count("alarm", filter=Q(alarm__cleared_at=None)),
            refused_today=RawSQL(
                "case when definitions_definition.kind = 'decoder' then (select count(*) from refused r join fleet_device d on d.id = r.device_id"
                " where d.type_id = definitions_definition.type_id and r.received_at > now() - interval '1 day') else 0 end",
                (),
            ),
        )
        kind = self.request.query_params.get("kind")
        return (found.filter(kind=kind) if kind else found).order_by("kind", "name")

    @extend_schema(parameters=[OpenApiParameter("kind", str)])
    def get(self, request: Request, *args: Any, **kwargs: Any) -> Response:
        return super().get(request, *args, **kwargs)

    def perform_create(self, serializer: Any) -> None:
        try:
            with transaction.atomic():
                definition = serializer.save()
        except IntegrityError:
            raise Refused("exists", f"there is a {serializer.validated_data['kind']} of this name, or for this device type, already", 409) from None
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
        changed = Definition.objects.filter(pk=ident, draft_number=number).update(draft=asked.validated_data["draft"], draft_number=number + 1)
        if not changed:
            self.find(ident)
            raise Refused("changed meanwhile", "somebody else changed this draft meanwhile; reload it to see their text", 409)
        return Response(DefinitionOut(self.find(ident)).data)

    @staticmethod
    def find(ident: int) -> Definition:
        return generics.get_object_or_404(definitions(), pk=ident)


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
        fields = [plain(s) for s in plan.all_fields] if isinstance(plan, DecoderPlan) else []
        drawn = [
            {"field": i.field, "sign": i.sign, "setpoint": i.setpoint, "number": i.number, "unit": i.unit, "line": i.line, "column": i.column, "end_column": i.end_column}
            for i in (plan.limits if isinstance(plan, ConditionPlan) else ())
        ]
        return Response({
            "problems": problems_of(problems), "good": plan is not None, "fields": fields, "limits": drawn,
            "type": plan.device_type if isinstance(plan, ConditionPlan) else None, "priority": plan.priority if isinstance(plan, ConditionPlan) else None,
            "source": plan.source if isinstance(plan, DecoderPlan) else None, "needs_before": isinstance(plan, DecoderPlan) and plan.needs_before,
        })  # fmt: skip


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
        try:
            payload = bytes.fromhex(data["payload_hex"])
            previous = bytes.fromhex(data["previous_hex"]) if data.get("previous_hex") else None
        except ValueError:
            raise Refused("invalid", "payload_hex: two hexadecimal digits a byte are expected") from None
        plan, problems = check("decoder", data["text"], type_of(data.get("type")))
        if not isinstance(plan, DecoderPlan):
            raise Refused("definition", problems[0].message if problems else "this is no decoder", problems=problems_of(problems))
        at = data.get("received_at") or timezone.now()
        return Response(explain(plan, payload, int(at.timestamp() * 1e6), data.get("headers"), data.get("constants"), previous))


class TrialView(APIView):
    """A draft over the stored past; nothing is changed."""

    writes = "viewer"

    @extend_schema(request=TrialIn, responses=TrialOut, operation_id="trial", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        definition = DefinitionView.find(ident)
        asked = TrialIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        began = timezone.now()
        plan, problems = check(definition.kind, data["text"], definition.type)
        if plan is None:
            raise Refused("definition", problems[0].message, problems=problems_of(problems))
        with transaction.atomic():
            if isinstance(plan, DecoderPlan):
                live = decoder_plan(definition.live.text, definition.live.fields) if definition.live else None
                last: dict[str, Any] = {}
                for step in decoder_trial(plan, live, Span(definition.type_id, data["messages"])):
                    last = step
                found: dict[str, Any] = {"decoder": last["result"]}
            else:
                type_ = DeviceType.objects.get(key=plan.device_type)
                found = {"condition": condition_trial(plan, type_, began - timedelta(days=data["days"]), began)}
        return Response(found | {"seconds": (timezone.now() - began).total_seconds()})


class PublishView(APIView):
    """Makes the text the next version and puts it in force."""

    @extend_schema(request=PublishIn, responses=DefinitionOut, operation_id="publish", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        definition = DefinitionView.find(ident)
        asked = PublishIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        first = selection_of(data["first"]) if data.get("first") else None
        try:
            publish(definition, data["text"], person_of(request), data.get("why", ""), data["despite_cases"], first)
        except NothingInForce:
            raise Refused("nothing in force", "no version is in force for the other devices; publish this one for all", 409) from None
        except CasesFail as error:
            raise Refused("cases fail", str(error), 409, names=error.names) from None
        except NotPublishable as error:
            raise Refused("definition", str(error), problems=problems_of(error.problems)) from None
        Definition.objects.filter(pk=ident).update(draft_number=definition.draft_number + 1)
        return Response(DefinitionOut(DefinitionView.find(ident)).data, 201)


class RetireView(APIView):
    """Takes a definition out of force."""

    @extend_schema(request=None, responses=DefinitionOut, operation_id="retire", tags=["definitions"])
    def post(self, request: Request, ident: int) -> Response:
        retire(DefinitionView.find(ident), person_of(request))
        return Response(DefinitionOut(DefinitionView.find(ident)).data)


class AgainIn(serializers.Serializer):
    start = serializers.DateTimeField(required=False, allow_null=True)
    end = serializers.DateTimeField(required=False, allow_null=True)

    def validate(self, data: dict[str, Any]) -> dict[str, Any]:
        if (data.get("start") is None) != (data.get("end") is None) or (data.get("start") and data["start"] >= data["end"]):
            raise serializers.ValidationError("a span has a start and a later end; without both, the refused messages are meant")
        return data


class AgainState(serializers.Serializer):
    state = serializers.ChoiceField(["paused", "waiting"])


class DecodeAgainView(APIView):
    """Runs messages of a type once more through the decoder in force, in the background: the refused ones, or all of a span of arrival."""

    @extend_schema(responses=AgainOut, operation_id="decoding_again", tags=["definitions"])
    def get(self, request: Request, key: str) -> Response:
        job = DecodeAgain.objects.filter(type__key=key).order_by("-id").first()
        return Response(AgainOut(job).data if job else {"id": 0, "state": "none", "total": 0, "done": 0, "decoded": 0, "asked_at": None, "start": None, "end": None})

    @extend_schema(request=AgainIn, responses=AgainOut, operation_id="decode_again", tags=["definitions"])
    def post(self, request: Request, key: str) -> Response:
        type_ = generics.get_object_or_404(DeviceType, key=key)
        asked = AgainIn(data=request.data or {})
        asked.is_valid(raise_exception=True)
        span = {"start": asked.validated_data.get("start"), "end": asked.validated_data.get("end")}
        person: Person = person_of(request)
        job = DecodeAgain.objects.filter(type=type_, state__in=["waiting", "running", "paused"]).first() or DecodeAgain.objects.create(type=type_, person=person, **span)
        record(person, "decoded again", key, start=str(span["start"] or ""), end=str(span["end"] or ""))
        return Response(AgainOut(job).data, 202)

    @extend_schema(request=AgainState, responses=AgainOut, operation_id="pause_decoding_again", tags=["definitions"])
    def patch(self, request: Request, key: str) -> Response:
        """Pauses the work, or goes on with it."""
        asked = AgainState(data=request.data)
        asked.is_valid(raise_exception=True)
        wanted = asked.validated_data["state"]
        DecodeAgain.objects.filter(type__key=key, state__in=["waiting", "running"] if wanted == "paused" else ["paused"]).update(state=wanted)
        return self.get(request, key)

    @extend_schema(responses=AgainOut, operation_id="cancel_decoding_again", tags=["definitions"])
    def delete(self, request: Request, key: str) -> Response:
        DecodeAgain.objects.filter(type__key=key, state__in=["waiting", "running", "paused"]).update(state="cancelled")
        return self.get(request, key)


class LanguageView(APIView):
    """Words that the editor completes."""

    @extend_schema(responses=LanguageOut, operation_id="language", tags=["definitions"])
    def get(self, request: Request) -> Response:
        return Response({"functions": [{"name": n, "words": f.words} for n, f in FUNCTIONS.items()], "checks": list(CHECKS), "units": known_codes()})
