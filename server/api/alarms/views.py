"""Alarms: the list, by cause or one by one; one of them with all that belongs to it; the journal."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

from django.db import connection
from django.db.models import Q
from django.http import StreamingHttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.api.alarms.selection import PARAMETERS, chosen, filtered
from server.api.alarms.serial import AlarmOut, EntryOut, answered
from server.records.alarms.models import Alarm, JournalEntry
from server.records.definitions.models import Definition
from server.records.fleet.models import Device
from server.requests.fields import whole
from server.requests.moments import as_then, moment_asked, span
from server.requests.paging import bounded
from server.requests.tables import as_csv, harmless_cell
from server.rules.alarms import everything, open_at
from server.rules.causes import Group, Open, lines
from server.rules.plans import plan_of, sentence
from server.store.raised import by_condition

PAGE = [OpenApiParameter("limit", int), OpenApiParameter("offset", int)]
MOST_OPEN = 5000  # open alarms that are looked at for what they have in common
MOST_EARLIER = 10
DAY = timedelta(days=1)


class AlarmPage(serializers.Serializer):
    count = serializers.IntegerField()
    unacknowledged = serializers.IntegerField()
    results = AlarmOut(many=True)


class AlarmsView(APIView):
    """Alarms one by one: open ones worst first, those of the lookback newest first."""

    @extend_schema(parameters=PARAMETERS + PAGE, responses=AlarmPage, operation_id="alarms", tags=["alarms"])
    @as_then
    def get(self, request: Request) -> Response:
        limit, offset = bounded(request)
        found = chosen(request)
        return Response(
            {
                "count": found.count(),
                "unacknowledged": found.filter(acknowledged_at=None).count(),
                "results": answered(request, found[offset : offset + limit], many=True),
            }
        )


class GroupOut(serializers.Serializer):
    key = serializers.CharField()
    kind = serializers.ChoiceField(["gateway", "condition", "device", "site"])
    title = serializers.CharField()
    why = serializers.CharField(help_text="how these were found to belong together")
    where = serializers.CharField(help_text="the sites, most alarms first")
    priority = serializers.CharField(help_text="the worst of them")
    since = serializers.DateTimeField()
    devices = serializers.IntegerField()
    unacknowledged = serializers.IntegerField()
    alarms = serializers.ListField(child=serializers.IntegerField())
    explained = serializers.IntegerField(help_text="silences that the gateway's own explains, and that call nobody")


class LineOut(serializers.Serializer):
    group = GroupOut(allow_null=True)
    alarm = AlarmOut(allow_null=True)


class LinesOut(serializers.Serializer):
    count = serializers.IntegerField(help_text="open alarms")
    unacknowledged = serializers.IntegerField()
    lines = serializers.IntegerField()
    shelved = serializers.IntegerField()
    returned = serializers.IntegerField(help_text="over in the lookback, and taken by nobody")
    suppressed = serializers.IntegerField(help_text="of the lookback")
    results = LineOut(many=True)


class LinesView(APIView):
    """Open alarms by cause: a line is an alarm, or several that belong together; and how many are elsewhere."""

    @extend_schema(parameters=PARAMETERS + PAGE, responses=LinesOut, operation_id="alarm_lines", tags=["alarms"])
    @as_then
    def get(self, request: Request) -> Response:
        limit, offset = bounded(request)
        at = moment_asked(request, "to")
        start, end, _ = span(request)
        found = open_at(filtered(everything(at), request).filter(suppressed=False), at)
        own = found.filter(shelved_until=None)
        newest = own.order_by("-raised_at").values("pk")[:MOST_OPEN]
        light = Alarm.objects.filter(pk__in=newest).select_related(
            "condition", "condition__type", "version", "device", "device__site", "site"
        )
        everyone = lines(self._open(light))
        page = everyone[offset : offset + limit]
        alone = own.filter(pk__in=[line.id for line in page if isinstance(line, Open)])
        alarms = {a["id"]: a for a in answered(request, alone, many=True)}
        untaken = set(own.filter(acknowledged_at=None).order_by("-pk").values_list("pk", flat=True)[:MOST_OPEN])
        before = filtered(everything(at), request).filter(raised_at__lte=end)
        return Response(
            {
                "count": own.count(),
                "unacknowledged": own.filter(acknowledged_at=None).count(),
                "lines": len(everyone),
                "shelved": found.exclude(shelved_until=None).count(),
                "returned": before.filter(
                    suppressed=False, acknowledged_at=None, cleared_at__gt=start, cleared_at__lte=end
                ).count(),
                "suppressed": before.filter(suppressed=True, raised_at__gt=start).count(),
                "results": [
                    {"group": None, "alarm": alarms[line.id]}
                    if isinstance(line, Open)
                    else {"group": self._group(line, untaken), "alarm": None}
                    for line in page
                    if not isinstance(line, Open) or line.id in alarms
                ],
            }
        )

    def _open(self, found: Any) -> Iterator[Open]:
        gateway_of = dict(Device.objects.exclude(gateway=None).values_list("pk", "gateway_id"))
        conditions: dict[int, bool] = {}
        for alarm in found:
            if alarm.condition_id not in conditions:
                version = alarm.version
                plan = plan_of(version, alarm.condition.type.key)
                conditions[alarm.condition_id] = plan is not None and plan.silence
            gateways: list[int] = []
            device = gateway_of.get(alarm.device_id)
            while device is not None and device not in gateways:
                gateways.append(device)
                device = gateway_of.get(device)
            site = alarm.device.site if alarm.device is not None else alarm.site
            yield Open(
                alarm.pk,
                alarm.condition_id,
                alarm.condition.name,
                alarm.device_id,
                alarm.device.title if alarm.device is not None else "",
                site.pk if site is not None else None,
                site.title if site is not None else "no site",
                tuple(gateways),
                conditions[alarm.condition_id],
                alarm.priority,
                alarm.raised_at.timestamp(),
            )

    def _group(self, group: Group, untaken: set[int]) -> dict[str, Any]:
        sites: dict[str, int] = {}
        for alarm in group.alarms:
            sites[alarm.site_title] = sites.get(alarm.site_title, 0) + 1
        names = sorted(sites, key=lambda name: -sites[name])
        more = f" and {len(names) - 2} more" if len(names) > 3 else ""
        shown = names[:2] if more else names
        where = ", ".join(shown) + more if more or len(shown) < 2 else f"{', '.join(shown[:-1])} and {shown[-1]}"
        explained = 0
        if group.kind == "gateway":
            behind = Device.objects.filter(gateway_id=group.alarms[0].device).values_list("pk", flat=True)
            since = datetime.fromtimestamp(group.since, UTC) - DAY / 24
            explained = Alarm.objects.filter(device_id__in=behind, suppressed=True, raised_at__gte=since).count()
        return {
            "key": group.key,
            "kind": group.kind,
            "title": group.title,
            "why": group.why,
            "where": where,
            "priority": group.priority,
            "since": datetime.fromtimestamp(group.since, UTC),
            "devices": len({a.device for a in group.alarms if a.device is not None}),
            "unacknowledged": sum(a.id in untaken for a in group.alarms),
            "alarms": [a.id for a in group.alarms],
            "explained": explained,
        }


class SummaryOut(serializers.Serializer):
    definition = serializers.IntegerField()
    condition = serializers.CharField()
    priority = serializers.CharField()
    raised = serializers.IntegerField()
    devices = serializers.IntegerField()
    untaken = serializers.IntegerField(help_text="over, and taken by nobody")
    last_at = serializers.DateTimeField()
    most_device = serializers.CharField()
    most_count = serializers.IntegerField()


class SummaryView(APIView):
    """What was raised in the lookback, by condition: how often, on how many devices, and which device most."""

    @extend_schema(
        parameters=[OpenApiParameter("from", str), OpenApiParameter("to", str)],
        responses=SummaryOut(many=True),
        operation_id="alarm_summary",
        tags=["alarms"],
    )
    @as_then
    def get(self, request: Request) -> Response:
        start, end, _ = span(request)
        with connection.cursor() as cursor:
            return Response([vars(one) for one in by_condition(cursor, start, end, 50)])


class AlarmView(APIView):
    """One alarm."""

    @extend_schema(responses=AlarmOut, operation_id="alarm", tags=["alarms"])
    def get(self, request: Request, ident: int) -> Response:
        return Response(answered(request, generics.get_object_or_404(everything(), pk=ident)))


class EarlierOut(serializers.Serializer):
    alarm = AlarmOut()
    notes = EntryOut(many=True)


class SheetOut(serializers.Serializer):
    alarm = AlarmOut()
    sentence = serializers.CharField(allow_null=True, help_text="what the condition does, in plain words")
    instruction = serializers.CharField(help_text="what the engineer says to do, in Markdown")
    entries = EntryOut(many=True, help_text="all that happened to it, the newest first")
    earlier = EarlierOut(many=True, help_text="the last ones of this condition on this device or site, with notes")
    earlier_count = serializers.IntegerField()
    shelves = serializers.IntegerField(help_text="how often this condition was shelved here before")


class SheetView(APIView):
    """One alarm with what belongs to it: its condition, what to do, all that happened, and earlier ones."""

    @extend_schema(responses=SheetOut, operation_id="alarm_sheet", tags=["alarms"])
    def get(self, request: Request, ident: int) -> Response:
        alarm = generics.get_object_or_404(everything(), pk=ident)
        condition = Definition.objects.select_related("type").get(pk=alarm.condition_id)
        same = everything().filter(condition=condition, device=alarm.device, site=alarm.site, suppressed=False)
        earlier = same.filter(raised_at__lt=alarm.raised_at).order_by("-raised_at")
        shown = list(earlier[:MOST_EARLIER])
        notes = JournalEntry.objects.filter(alarm__in=[a.pk for a in shown]).exclude(note="").exclude(person=None)
        entries = JournalEntry.objects.filter(alarm=alarm).order_by("-at", "-id")[:200]
        noted: dict[int, list[Any]] = {}
        for note in with_names(notes.order_by("at")):
            noted.setdefault(note.alarm_id, []).append(note)
        return Response(
            {
                "alarm": answered(request, alarm),
                "sentence": sentence(condition.kind, alarm.version, condition.type.key),
                "instruction": condition.instruction,
                "entries": EntryOut(with_names(entries), many=True).data,
                "earlier": [
                    {"alarm": answered(request, a), "notes": EntryOut(noted.get(a.pk, []), many=True).data}
                    for a in shown
                ],
                "earlier_count": earlier.count(),
                "shelves": alarm.shelves.model.objects.filter(
                    condition=condition, device=alarm.device, site=alarm.site, since__lt=alarm.raised_at
                ).count(),
            }
        )


class JournalPage(serializers.Serializer):
    count = serializers.IntegerField()
    results = EntryOut(many=True)


def with_names(found: Any) -> Any:
    return found.select_related(
        "alarm", "alarm__device", "alarm__site", "alarm__condition", "alarm__condition__type", "person", "version"
    )


JOURNAL = [OpenApiParameter(n, str) for n in ("device", "what", "q", "person", "from", "to")] + [
    OpenApiParameter("alarm", int),
    OpenApiParameter("condition", int),
]


def journal(request: Request) -> Any:
    """What happened to alarms in the lookback, or to one alarm, the newest first."""
    params = request.query_params
    found = with_names(JournalEntry.objects.all())
    if params.get("alarm"):
        found = found.filter(alarm_id=whole(params["alarm"], 2**31 - 1) or 0)
    else:
        start, end, _ = span(request)
        found = found.filter(at__gte=start, at__lte=end)
    if params.get("device"):
        found = found.filter(alarm__device__name=params["device"])
    if params.get("condition"):
        found = found.filter(alarm__condition_id=whole(params["condition"], 2**31 - 1) or 0)
    if params.get("what"):
        found = found.filter(what__in=params["what"].split(",")[:20])
    if params.get("person"):
        found = found.filter(person__username=params["person"])
    for word in params.get("q", "").split()[:8]:
        words = Q(note__icontains=word[:80]) | Q(alarm__text__icontains=word[:80])
        found = found.filter(
            words | Q(alarm__device__title__icontains=word[:80]) | Q(alarm__condition__name__icontains=word[:80])
        )
    return found.order_by("-at", "-id")


class JournalView(APIView):
    """What happened to alarms in the lookback, newest first."""

    @extend_schema(parameters=JOURNAL + PAGE, responses=JournalPage, operation_id="journal", tags=["alarms"])
    def get(self, request: Request) -> Response:
        limit, offset = bounded(request)
        found = journal(request)
        return Response({"count": found.count(), "results": EntryOut(found[offset : offset + limit], many=True).data})


COLUMNS = ("at", "what", "priority", "condition", "device", "device_title", "who", "note", "value", "limit", "unit")
MOST_ROWS = 100_000


class JournalFileView(APIView):
    """The journal of the lookback as a table: CSV after RFC 4180, times in UTC."""

    @extend_schema(parameters=JOURNAL, responses={(200, "text/csv"): str}, operation_id="journal_file", tags=["alarms"])
    def get(self, request: Request) -> StreamingHttpResponse:
        found = journal(request)[:MOST_ROWS]

        def rows() -> Iterator[list[Any]]:
            yield [*COLUMNS, "alarm", "learned_at"]
            for entry in found.iterator(chunk_size=1000):
                alarm = entry.alarm
                yield [
                    f"{entry.at.astimezone(UTC):%Y-%m-%dT%H:%M:%S.%fZ}",
                    entry.what,
                    entry.priority or alarm.priority,
                    harmless_cell(alarm.condition.name),
                    alarm.device.name if alarm.device else "",
                    harmless_cell(alarm.device.title if alarm.device else alarm.site.title if alarm.site else ""),
                    harmless_cell(entry.person.called if entry.person else ""),
                    harmless_cell(entry.note),
                    "" if entry.value is None else entry.value,
                    "" if entry.limit is None else entry.limit,
                    alarm.unit,
                    alarm.pk,
                    f"{entry.learned_at.astimezone(UTC):%Y-%m-%dT%H:%M:%S.%fZ}",
                ]

        return as_csv(rows(), "journal.csv")
