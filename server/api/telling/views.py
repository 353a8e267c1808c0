"""Outlets, contacts, who is told what and when, and what became of it."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.db import connection, transaction
from django.db.models import Count, Q
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from server.api.telling.serial import (
    MOST_BODY,
    ChainOut,
    ContactOut,
    DeliveryOut,
    HostOut,
    OutletOut,
    ShiftOut,
    own_body,
    templates,
)
from server.delivery.files import folder_of
from server.delivery.outlets import Message
from server.delivery.planning import Ways
from server.delivery.ways import send
from server.delivery.words import EXAMPLE, filled_body, message_of
from server.delivery.worker import quiet_until
from server.records.alarms.models import PRIORITIES, Alarm
from server.records.fleet.models import Device, Revised
from server.records.people.models import record
from server.records.telling.models import WAITING, Chain, Contact, Delivery, Outlet, ReachedHost, Shift
from server.requests.authentication import person_of
from server.requests.fields import whole
from server.requests.moments import LOOKBACK, moment_asked, span
from server.requests.paging import bounded
from server.requests.revisions import changing, tagged
from server.rules.refusal import Refused
from server.rules.routes import sending_to
from server.rules.sealing import opened, sealed
from server.rules.shifts import hand_over_at
from server.store.figures import Waiting, waiting
from server.store.routing import MOST_WAITING, last_batches, lose_waiting, lost

MOST = 200


class Kept:
    """What a list of things and one of them have in common."""

    serializer: Any  # a ModelSerializer
    word: str

    @property
    def model(self) -> Any:
        return self.serializer.Meta.model

    def all(self) -> Any:
        return self.model.objects.order_by("name")

    def keep(self, thing: Revised, asked: serializers.ModelSerializer, fresh: bool) -> None:
        """Puts what was asked for into a thing."""
        for name, value in asked.validated_data.items():
            setattr(thing, name, value)


class ManyView(Kept, APIView):
    def get(self, request: Request) -> Response:
        return Response(self.serializer(self.all()[:MOST], many=True).data)

    def post(self, request: Request) -> Response:
        asked = self.serializer(data=request.data)
        asked.is_valid(raise_exception=True)
        model = self.model
        if model.objects.count() >= MOST:
            raise Refused("too many", f"there are at most {MOST}")
        with transaction.atomic():
            thing = model()
            self.keep(thing, asked, True)
            thing.save()
            record(person_of(request), f"added {self.word}", thing.name)
        return Response(self.serializer(self.all().get(pk=thing.pk)).data, 201)


class OneView(Kept, APIView):
    def get(self, request: Request, ident: int) -> Response:
        thing = generics.get_object_or_404(self.all(), pk=ident)
        return tagged(Response(self.serializer(thing).data), thing.revision)

    def patch(self, request: Request, ident: int) -> Response:
        with transaction.atomic():
            thing = changing(request, self.model.objects.all(), f"{self.word} {ident}", pk=ident)
            asked = self.serializer(thing, data=request.data, partial=True)
            asked.is_valid(raise_exception=True)
            self.keep(thing, asked, False)
            thing.revise()
            record(person_of(request), f"changed {self.word}", thing.name)
        return self.get(request, ident)

    def delete(self, request: Request, ident: int) -> Response:
        thing = generics.get_object_or_404(self.model, pk=ident)
        self.unused(thing)
        record(person_of(request), f"removed {self.word}", thing.name)
        thing.delete()
        return Response(status=204)

    def unused(self, thing: Any) -> None:
        """Raises Refused where something speaks of it."""


class OutletPart(Kept):
    serializer, word = OutletOut, "outlet"

    def all(self) -> Any:
        waiting = Count("deliveries", filter=Q(deliveries__state=WAITING))
        return Outlet.objects.annotate(waiting=waiting).order_by("name")

    def keep(self, thing: Any, asked: serializers.ModelSerializer, fresh: bool) -> None:
        secret = asked.validated_data.pop("secret", None)
        super().keep(thing, asked, fresh)
        if secret is not None:
            thing.secret = sealed(secret) if secret else None
        thing.failures, thing.opens_at = 0, None  # what was changed is tried at once


class OutletsView(OutletPart, ManyView):
    """Ways out: mail servers, and addresses that take events."""

    @extend_schema(responses=OutletOut(many=True), operation_id="outlets", tags=["telling"])
    def get(self, request: Request) -> Response:
        return super().get(request)

    @extend_schema(request=OutletOut, responses={201: OutletOut}, operation_id="add_outlet", tags=["telling"])
    def post(self, request: Request) -> Response:
        return super().post(request)


class OutletView(OutletPart, OneView):
    """One outlet. Its secret is taken, and never shown again."""

    @extend_schema(responses=OutletOut, operation_id="outlet", tags=["telling"])
    def get(self, request: Request, ident: int) -> Response:
        return super().get(request, ident)

    @extend_schema(request=OutletOut, responses=OutletOut, operation_id="change_outlet", tags=["telling"])
    def patch(self, request: Request, ident: int) -> Response:
        return super().patch(request, ident)

    @extend_schema(responses={204: None}, operation_id="remove_outlet", tags=["telling"])
    def delete(self, request: Request, ident: int) -> Response:
        return super().delete(request, ident)

    def unused(self, thing: Any) -> None:
        for contact in Contact.objects.all():
            if any(address["outlet"] == thing.pk for address in contact.addresses):
                raise Refused("in use", f"{contact.name} has an address by this outlet", 409)
        users = sending_to(thing)
        if users:
            raise Refused("in use", f"the route “{users[0]}” sends to this outlet", 409)


class OutletTestIn(serializers.Serializer):
    to = serializers.CharField(max_length=300, allow_blank=True)


class OutletTestOut(serializers.Serializer):
    fine = serializers.BooleanField()
    request = serializers.CharField()
    answer = serializers.CharField()


class OutletTestView(APIView):
    """Sends a test message now, and tells what went out and what came back."""

    @extend_schema(request=OutletTestIn, responses=OutletTestOut, operation_id="test_outlet", tags=["telling"])
    def post(self, request: Request, ident: int) -> Response:
        outlet = generics.get_object_or_404(Outlet, pk=ident)
        asked = OutletTestIn(data=request.data)
        asked.is_valid(raise_exception=True)
        to = asked.validated_data["to"]
        if outlet.kind == "mail" or to:
            ContactOut().validate_addresses([{"outlet": outlet.pk, "to": to}])
        event = {
            "specversion": "1.0",
            "id": "0",
            "source": "/test",
            "type": "oculum.test",
            "time": f"{timezone.now():%Y-%m-%dT%H:%M:%SZ}",
            "data": {"by": person_of(request).called},
        }
        words = f"A test of the outlet {outlet.name}, asked for by {person_of(request).called}."
        body = outlet.settings.get("body")
        bodies = ((0, filled_body(body, EXAMPLE | {"text": words})),) if body else ()
        message = Message((0,), f"test of {outlet.name}", words, (event,), bodies)
        allowed = set(ReachedHost.objects.values_list("host", flat=True))
        record(person_of(request), "tested outlet", outlet.name)
        try:
            own = outlet.settings | {"folder": f"{outlet.name}-{outlet.pk}"}
            sent = send(outlet.kind, own, opened(outlet.secret), to, message, allowed)
        except OSError as error:
            return Response({"fine": False, "request": words, "answer": str(error)[:500]})
        return Response({"fine": True, "request": sent.request, "answer": sent.answer})


class PreviewIn(serializers.Serializer):
    subject = serializers.CharField(max_length=200, allow_blank=True)
    text = serializers.CharField(max_length=4000, allow_blank=True, trim_whitespace=False)
    body = serializers.CharField(max_length=MOST_BODY, required=False, allow_blank=True, trim_whitespace=False)
    device = serializers.CharField(max_length=63, required=False, allow_blank=True)


class PreviewOut(serializers.Serializer):
    subject = serializers.CharField()
    text = serializers.CharField()
    body = serializers.CharField(help_text="of a webhook; empty where no template for it was given")
    of = serializers.CharField(help_text="the alarm that it is shown with")


class PreviewView(APIView):
    """Templates with the words of a real alarm in them: the newest of a device, or of all."""

    @extend_schema(request=PreviewIn, responses=PreviewOut, operation_id="preview_message", tags=["telling"])
    def post(self, request: Request) -> Response:
        asked = PreviewIn(data=request.data)
        asked.is_valid(raise_exception=True)
        data = asked.validated_data
        own = templates(data) | {"body": own_body(data)}
        found = Alarm.objects.select_related("device", "device__site", "site", "condition").order_by("-raised_at")
        if data.get("device"):
            found = found.filter(device__name=data["device"])
        alarm = found.first()
        if alarm is None:
            raise Refused("not found", "there is no alarm yet that it could be shown with", 404)
        message = message_of([Delivery(alarm=alarm, what="raised", to="")], own)
        body = message.bodies[0][1] if message.bodies else ""
        return Response({"subject": message.subject, "text": message.text, "body": body, "of": alarm.text})


class ContactPart(Kept):
    serializer, word = ContactOut, "contact"


class ContactsView(ContactPart, ManyView):
    """People and duties that are told."""

    @extend_schema(responses=ContactOut(many=True), operation_id="contacts", tags=["telling"])
    def get(self, request: Request) -> Response:
        return super().get(request)

    @extend_schema(request=ContactOut, responses={201: ContactOut}, operation_id="add_contact", tags=["telling"])
    def post(self, request: Request) -> Response:
        return super().post(request)


class ContactView(ContactPart, OneView):
    """One contact."""

    @extend_schema(responses=ContactOut, operation_id="contact", tags=["telling"])
    def get(self, request: Request, ident: int) -> Response:
        return super().get(request, ident)

    @extend_schema(request=ContactOut, responses=ContactOut, operation_id="change_contact", tags=["telling"])
    def patch(self, request: Request, ident: int) -> Response:
        return super().patch(request, ident)

    @extend_schema(responses={204: None}, operation_id="remove_contact", tags=["telling"])
    def delete(self, request: Request, ident: int) -> Response:
        return super().delete(request, ident)

    def unused(self, thing: Any) -> None:
        for chain in Chain.objects.all():
            if any(thing.pk in step["contacts"] for step in chain.steps):
                raise Refused("in use", f"{chain.name} tells this contact", 409)
        for shift in Shift.objects.all():
            if thing.pk in shift.contacts:
                raise Refused("in use", f"the hand-over {shift.name} goes to this contact", 409)
        for other in Contact.objects.filter(rota__isnull=False):
            rota = other.rota or {"weeks": [], "exceptions": []}
            turns = [*rota["weeks"], *(e["contact"] for e in rota["exceptions"])]
            if thing.pk in turns:
                raise Refused("in use", f"the rota of {other.name} names this contact", 409)


class ShiftPart(Kept):
    serializer, word = ShiftOut, "hand-over"


class ShiftsView(ShiftPart, ManyView):
    """Hand-overs that are sent by themselves."""

    @extend_schema(responses=ShiftOut(many=True), operation_id="shifts", tags=["telling"])
    def get(self, request: Request) -> Response:
        return super().get(request)

    @extend_schema(request=ShiftOut, responses={201: ShiftOut}, operation_id="add_shift", tags=["telling"])
    def post(self, request: Request) -> Response:
        return super().post(request)


class ShiftView(ShiftPart, OneView):
    """One hand-over that is sent by itself."""

    @extend_schema(responses=ShiftOut, operation_id="shift", tags=["telling"])
    def get(self, request: Request, ident: int) -> Response:
        return super().get(request, ident)

    @extend_schema(request=ShiftOut, responses=ShiftOut, operation_id="change_shift", tags=["telling"])
    def patch(self, request: Request, ident: int) -> Response:
        return super().patch(request, ident)

    @extend_schema(responses={204: None}, operation_id="remove_shift", tags=["telling"])
    def delete(self, request: Request, ident: int) -> Response:
        return super().delete(request, ident)


class ShiftNowView(APIView):
    """Sends it once, now; it goes out with the next step of delivery."""

    @extend_schema(request=None, responses=ShiftOut, operation_id="send_shift", tags=["telling"])
    def post(self, request: Request, ident: int) -> Response:
        shift = generics.get_object_or_404(Shift, pk=ident)
        with transaction.atomic():
            if not hand_over_at(shift, timezone.now()):
                raise Refused("invalid", "none of its contacts has an address to which it could be sent")
            record(person_of(request), "sent hand-over", shift.name)
        return Response(ShiftOut(shift).data)


class ChainPart(Kept):
    serializer, word = ChainOut, "way of telling"


class ChainsView(ChainPart, ManyView):
    """Who is told, after how long, until somebody has taken the alarm."""

    @extend_schema(responses=ChainOut(many=True), operation_id="chains", tags=["telling"])
    def get(self, request: Request) -> Response:
        return super().get(request)

    @extend_schema(request=ChainOut, responses={201: ChainOut}, operation_id="add_chain", tags=["telling"])
    def post(self, request: Request) -> Response:
        return super().post(request)


class ChainView(ChainPart, OneView):
    """One way of telling."""

    @extend_schema(responses=ChainOut, operation_id="chain", tags=["telling"])
    def get(self, request: Request, ident: int) -> Response:
        return super().get(request, ident)

    @extend_schema(request=ChainOut, responses=ChainOut, operation_id="change_chain", tags=["telling"])
    def patch(self, request: Request, ident: int) -> Response:
        return super().patch(request, ident)

    @extend_schema(responses={204: None}, operation_id="remove_chain", tags=["telling"])
    def delete(self, request: Request, ident: int) -> Response:
        return super().delete(request, ident)


class ToldOut(serializers.Serializer):
    chain = serializers.CharField()
    what = serializers.ChoiceField(["raised", "still open"])
    step = serializers.IntegerField()
    at = serializers.DateTimeField(help_text="if nobody has taken the alarm before")
    contact = serializers.CharField()
    outlet = serializers.CharField()
    to = serializers.CharField()
    quiet = serializers.BooleanField(help_text="put off until the quiet hours of the contact are over")


class WhoView(APIView):
    """Who would be told what and when, if a condition were raised on a device at a moment."""

    @extend_schema(
        parameters=[OpenApiParameter(n, str, required=n != "at") for n in ("device", "priority", "at")]
        + [OpenApiParameter("condition", int)],
        responses=ToldOut(many=True),
        operation_id="who_is_told",
        tags=["telling"],
    )
    def get(self, request: Request) -> Response:
        params = request.query_params
        device = generics.get_object_or_404(Device, name=params.get("device", ""))
        priority, condition = params.get("priority", ""), whole(params.get("condition"), 2**31 - 1)
        if priority not in PRIORITIES:
            raise Refused("invalid", f"priority is one of {', '.join(PRIORITIES)}")
        at = moment_asked(request, "at") or timezone.now()
        ways = Ways.now()
        found = []
        for chain in ways.of(priority, condition, device.site_id):
            for told in ways.told(chain, "raised", at):
                due = at + timedelta(seconds=told.after_s)
                until = quiet_until(chain, told.contact.zone, priority, due)
                found.append(
                    {
                        "chain": chain.name,
                        "what": told.what,
                        "step": told.step + 1,
                        "at": until or due,
                        "contact": told.contact.name,
                        "outlet": ways.outlets[told.outlet],
                        "to": told.to,
                        "quiet": until is not None,
                    }
                )
        return Response(sorted(found, key=lambda f: (f["at"], f["chain"])))


class DeliveryPage(serializers.Serializer):
    count = serializers.IntegerField()
    waiting = serializers.IntegerField()
    undelivered = serializers.IntegerField(help_text="given up after a day")
    results = DeliveryOut(many=True)


class DeliveriesView(APIView):
    """What was told and what waits, the newest first."""

    @extend_schema(
        parameters=[OpenApiParameter("state", str)]
        + [OpenApiParameter(n, int) for n in ("alarm", "outlet", "limit", "offset")],
        responses=DeliveryPage,
        operation_id="deliveries",
        tags=["telling"],
    )
    def get(self, request: Request) -> Response:
        limit, offset = bounded(request)
        found = Delivery.objects.select_related("outlet", "contact", "chain", "alarm")
        params = request.query_params
        if params.get("state"):
            found = found.filter(state=params["state"])
        for name in ("alarm", "outlet"):
            if params.get(name):
                found = found.filter(**{name: whole(params[name], 2**31 - 1) or 0})
        return Response(
            {
                "count": found.count(),
                "waiting": Delivery.objects.filter(state=WAITING).count(),
                "undelivered": Delivery.objects.filter(state="expired").count(),
                "results": DeliveryOut(found.order_by("-id")[offset : offset + limit], many=True).data,
            }
        )


class SendAgainIn(serializers.Serializer):
    deliveries = serializers.ListField(
        child=serializers.IntegerField(min_value=1), max_length=500, help_text="empty: all that were given up"
    )


class SendAgainOut(serializers.Serializer):
    again = serializers.IntegerField()


class SendAgainView(APIView):
    """Puts deliveries back: those that were given up, or that wait for their next try."""

    writes = "operator"

    @extend_schema(request=SendAgainIn, responses=SendAgainOut, operation_id="send_again", tags=["telling"])
    def post(self, request: Request) -> Response:
        asked = SendAgainIn(data=request.data)
        asked.is_valid(raise_exception=True)
        now = timezone.now()
        own = asked.validated_data["deliveries"]
        found = Delivery.objects.filter(pk__in=own, state__in=["expired", WAITING]) if own else None
        found = Delivery.objects.filter(state="expired") if found is None else found
        again = found.update(state=WAITING, tries=0, due_at=now, next_at=now, why="")
        Outlet.objects.exclude(opens_at=None).update(opens_at=None)
        record(person_of(request), "sent again", f"{again} deliveries")
        return Response({"again": again})


class ReadingsBatch(serializers.Serializer):
    at = serializers.DateTimeField()
    readings = serializers.IntegerField()
    first = serializers.CharField(help_text="number of the first reading")
    last = serializers.CharField()
    took_ms = serializers.IntegerField()
    good = serializers.BooleanField()
    answer = serializers.CharField()


class ReadingsLost(serializers.Serializer):
    why = serializers.CharField()
    readings = serializers.IntegerField()


class OutletReadingsOut(serializers.Serializer):
    waiting = serializers.IntegerField()
    oldest = serializers.DateTimeField(allow_null=True)
    most = serializers.IntegerField(help_text="that wait at most; beyond, the oldest are given up")
    sent = serializers.IntegerField(help_text="in the span")
    lost = ReadingsLost(many=True, help_text="in the span, by why")
    used_by = serializers.ListField(child=serializers.CharField())
    folder = serializers.CharField(allow_null=True, help_text="of files, where they are")
    log = ReadingsBatch(many=True, help_text="the last batches, the newest first")


class OutletReadingsView(APIView):
    """Readings of one outlet: what waits, what was sent and lost in a span, and the last batches."""

    writes = "operator"

    @extend_schema(
        parameters=LOOKBACK, responses=OutletReadingsOut, operation_id="readings_of_outlet", tags=["telling"]
    )
    def get(self, request: Request, ident: int) -> Response:
        outlet = generics.get_object_or_404(Outlet, pk=ident)
        start, _, _ = span(request)
        with connection.cursor() as cursor:
            found = waiting(cursor, start).get(ident, Waiting())
            gone = lost(cursor, ident, start)
            batches = [vars(batch) for batch in last_batches(cursor, ident, 50)]
        return Response(
            {
                "waiting": found.readings,
                "oldest": found.oldest,
                "most": MOST_WAITING,
                "sent": found.sent,
                "lost": [{"why": why, "readings": n} for why, n in gone],
                "used_by": sending_to(outlet),
                "folder": str(folder_of(f"{outlet.name}-{outlet.pk}")) if outlet.kind == "file" else None,
                "log": batches,
            }
        )

    @extend_schema(responses={204: None}, operation_id="discard_readings", tags=["telling"])
    def delete(self, request: Request, ident: int) -> Response:
        """Gives up what waits; it is said to be lost."""
        outlet = generics.get_object_or_404(Outlet, pk=ident)
        with connection.cursor() as cursor:
            count = lose_waiting(cursor, ident, "given up by a person")
        record(person_of(request), "gave up readings", outlet.name, {"readings": count})
        return Response(status=204)


class HostsView(APIView):
    """Hosts inside one's own network that outlets may reach all the same."""

    reads = writes = "admin"

    @extend_schema(responses=HostOut(many=True), operation_id="reached_hosts", tags=["telling"])
    def get(self, request: Request) -> Response:
        return Response(HostOut(ReachedHost.objects.order_by("host")[:MOST], many=True).data)

    @extend_schema(request=HostOut, responses={201: HostOut}, operation_id="allow_host", tags=["telling"])
    def post(self, request: Request) -> Response:
        asked = HostOut(data=request.data)
        asked.is_valid(raise_exception=True)
        host = asked.validated_data["host"].lower()
        made, _ = ReachedHost.objects.get_or_create(host=host, defaults={"person": person_of(request)})
        record(person_of(request), "allowed host", host)
        return Response(HostOut(made).data, 201)


class HostView(APIView):
    """One such host."""

    writes = "admin"

    @extend_schema(responses={204: None}, operation_id="forbid_host", tags=["telling"])
    def delete(self, request: Request, ident: int) -> Response:
        found = generics.get_object_or_404(ReachedHost, pk=ident)
        record(person_of(request), "forbade host", found.host)
        found.delete()
        return Response(status=204)
