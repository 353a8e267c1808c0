"""Signing in and out, people, tokens, the record."""

from __future__ import annotations

from typing import Any
from zoneinfo import available_timezones

from django.contrib.auth import authenticate, login, logout, password_validation, update_session_auth_hash
from django.core.exceptions import ValidationError
from django.db import connection, transaction
from django.db.models import Q
from django.middleware.csrf import get_token
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import generics, serializers
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from oculum.text import harmless
from server.records.people.models import ROLES, Person, Record, Token, record
from server.requests import bounds, tries
from server.requests.authentication import by_session, person_of
from server.requests.fields import Words
from server.rules.keys import new_key
from server.rules.passwords import set_password
from server.rules.refusal import Refused
from server.store.notices import notice

MOST_TOKENS = 50


class Me(serializers.Serializer):
    username = serializers.CharField()
    name = serializers.CharField()
    role = serializers.ChoiceField(ROLES)
    zone = serializers.CharField()
    csrf = serializers.CharField()
    must_change_password = serializers.BooleanField(help_text="nothing else can be done until it is changed")


class SignIn(serializers.Serializer):
    username = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=200, trim_whitespace=False)


class ColleagueOut(serializers.Serializer):
    username = serializers.CharField()
    name = serializers.CharField()


class ColleaguesView(APIView):
    """Who may take alarms, by name: to whom one can be given."""

    @extend_schema(responses=ColleagueOut(many=True), operation_id="colleagues", tags=["people"])
    def get(self, request: Request) -> Response:
        found = Person.objects.filter(is_active=True, role__in=ROLES[1:]).order_by("first_name", "username")[:500]
        return Response([{"username": p.username, "name": p.called} for p in found])


USERNAME = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$"


def sound_password(value: str) -> str:
    try:
        password_validation.validate_password(value)
    except ValidationError as error:
        raise serializers.ValidationError(error.messages) from None
    return value


def sound_zone(value: str) -> str:
    """A zone in which somebody is shown times; empty for that of the browser. Raises ValidationError."""
    if value and value not in available_timezones():
        raise serializers.ValidationError(f"`{value}` is no zone of the IANA database, such as UTC")
    return value


class PersonOut(serializers.ModelSerializer):
    username = serializers.RegexField(
        USERNAME, error_messages={"invalid": "a name to sign in has letters a-z, digits, dots, hyphens, underscores"}
    )
    name = Words(source="first_name", max_length=150)
    password = serializers.CharField(
        write_only=True, required=False, min_length=12, max_length=200, trim_whitespace=False
    )

    class Meta:
        model = Person
        fields = ["id", "username", "name", "role", "zone", "is_active", "must_change_password", "password"]
        read_only_fields = ["must_change_password"]

    def validate_username(self, value: str) -> str:
        others = Person.objects.exclude(pk=self.instance.pk if isinstance(self.instance, Person) else 0)
        if others.filter(username__iexact=value).exists():
            raise serializers.ValidationError(f"there is a person named `{value}` already, whatever its letters' case")
        return value

    def validate_password(self, value: str) -> str:
        return sound_password(value)

    def validate_zone(self, value: str) -> str:
        return sound_zone(value)


class MeIn(serializers.Serializer):
    zone = serializers.CharField(allow_blank=True, max_length=64, help_text="empty: the zone of the browser")

    def validate_zone(self, value: str) -> str:
        return sound_zone(value)


class NewPassword(serializers.Serializer):
    old = serializers.CharField(max_length=200, trim_whitespace=False)
    new = serializers.CharField(min_length=12, max_length=200, trim_whitespace=False)

    def validate_new(self, value: str) -> str:
        return sound_password(value)


class TokenOut(serializers.ModelSerializer):
    name = Words(max_length=80)
    key = serializers.CharField(read_only=True, required=False)

    class Meta:
        model = Token
        fields = ["id", "name", "role", "prefix", "made_at", "used_at", "key"]
        read_only_fields = ["prefix", "made_at", "used_at"]


class RecordOut(serializers.ModelSerializer):
    class Meta:
        model = Record
        fields = ["id", "at", "who", "what", "about", "detail"]


def me_of(request: Request) -> dict[str, Any]:
    person: Person = person_of(request)
    return {
        "username": person.username,
        "name": person.called,
        "role": person.role,
        "zone": person.zone,
        "csrf": get_token(request._request),
        "must_change_password": person.must_change_password,
    }


class SignInView(APIView):
    permission_classes = [AllowAny]
    authentication_classes: list[Any] = []

    @extend_schema(request=SignIn, responses=Me, operation_id="sign_in", tags=["access"])
    def post(self, request: Request) -> Response:
        """Starts a session. After ten tries in a minute for one address, or one name, it waits."""
        asked = SignIn(data=request.data)
        asked.is_valid(raise_exception=True)
        name = asked.validated_data["username"]
        keys = tries.watched(request._request, name)
        if not tries.count(keys):
            raise Refused("too many", "too many tries to sign in; wait a minute", 429)
        known = Person.objects.filter(username__iexact=name).first()
        with bounds.hashing:
            person = authenticate(
                request._request, username=known.username if known else name, password=asked.validated_data["password"]
            )
        if not isinstance(person, Person):
            record(None, "sign-in refused", who=harmless(name, 80))
            raise Refused("sign-in", "name and password do not go together", 403)
        tries.forgive(keys)
        login(request._request, person)
        request.user = person
        record(person, "signed in")
        response = Response(me_of(request))
        tries.mark_browser(request._request, response, person.username)
        return response


def tell_people(person: int) -> None:
    """Live feeds of a person look anew whether they may go on."""
    with connection.cursor() as cursor:
        notice(cursor, "oculum_people", str(person))


class SignOutView(APIView):
    writes = "viewer"
    first_password = True

    @extend_schema(request=None, responses={204: None}, operation_id="sign_out", tags=["access"])
    def post(self, request: Request) -> Response:
        """Ends the session, and the live feeds that it opened."""
        person = person_of(request)
        record(person, "signed out")
        logout(request._request)
        tell_people(person.pk)
        return Response(status=204)


class PasswordView(APIView):
    """The own password."""

    writes = "viewer"
    first_password = True

    @extend_schema(request=NewPassword, responses=Me, operation_id="change_password", tags=["access"])
    def post(self, request: Request) -> Response:
        """Another password. Sessions elsewhere end, and tokens that were made under the old one."""
        if not by_session(request):
            raise Refused("session", "a password is changed by the person, signed in, not by a token", 403)
        asked = NewPassword(data=request.data)
        asked.is_valid(raise_exception=True)
        person = person_of(request)
        if not tries.count([f"password {person.pk}"]):
            raise Refused("too many", "too many tries; wait a minute", 429)
        with bounds.hashing:
            right = person.check_password(asked.validated_data["old"])
        if not right:
            raise Refused("sign-in", "the old password is another one", 403)
        if asked.validated_data["new"] == asked.validated_data["old"]:
            raise Refused("invalid", "the new password is the old one")
        with transaction.atomic(), bounds.hashing:
            set_password(person, asked.validated_data["new"])
            record(person, "changed password")
        update_session_auth_hash(request._request, person)
        tell_people(person.pk)
        return Response(me_of(request))


class MeView(APIView):
    """Who is signed in."""

    first_password = True
    writes = "viewer"

    @extend_schema(responses=Me, operation_id="me", tags=["access"])
    def get(self, request: Request) -> Response:
        return Response(me_of(request))

    @extend_schema(request=MeIn, responses=Me, operation_id="change_me", tags=["access"])
    def patch(self, request: Request) -> Response:
        """Changes how the screens are shown to oneself."""
        asked = MeIn(data=request.data)
        asked.is_valid(raise_exception=True)
        person = person_of(request)
        person.zone = asked.validated_data["zone"]
        person.save(update_fields=["zone"])
        return Response(me_of(request))


class PeopleView(generics.ListCreateAPIView):
    """People and their roles."""

    queryset = Person.objects.order_by("username")
    serializer_class = PersonOut
    reads = writes = "admin"

    def perform_create(self, serializer: Any) -> None:
        password = serializer.validated_data.pop("password", None)
        if not password:
            raise Refused("invalid", "a new person needs a password of 12 characters or more")
        person = Person(**serializer.validated_data)
        with transaction.atomic(), bounds.hashing:
            # Somebody else has chosen it: the person chooses another at the first sign-in.
            set_password(person, password, must_change=True)
            record(person_of(self.request), "added person", person.username, {"role": person.role})
        serializer.instance = person


class PersonView(generics.RetrieveUpdateAPIView):
    """One person: role, zone, whether active."""

    queryset = Person.objects.all()
    serializer_class = PersonOut
    reads = writes = "admin"
    http_method_names = ["get", "patch"]

    def perform_update(self, serializer: Any) -> None:
        password = serializer.validated_data.pop("password", None)
        with transaction.atomic():
            admins = list(Person.objects.select_for_update().filter(role="admin", is_active=True).order_by("pk"))
            person = serializer.save()
            if [a.pk for a in admins] == [person.pk] and not (person.role == "admin" and person.is_active):
                raise Refused("last admin", "there would be no active administrator left; make another one first", 409)
            if password:
                with bounds.hashing:
                    set_password(person, password, must_change=person.pk != person_of(self.request).pk)
            changed = {"role": person.role, "active": person.is_active, "password": bool(password)}
            record(person_of(self.request), "changed person", person.username, changed)
        tell_people(person.pk)


def only_by_session(request: Request) -> None:
    """What a program holds cannot make, or take away, what other programs hold. Raises Refused."""
    if not by_session(request):
        raise Refused("session", "tokens are made and withdrawn by the person, signed in, not by a token", 403)


class TokensView(generics.ListCreateAPIView):
    """Tokens for programs of the person who asks. The key is shown once, in the answer that makes it."""

    serializer_class = TokenOut
    reads = writes = "viewer"

    def get_queryset(self) -> Any:
        return Token.objects.filter(person=person_of(self.request)).order_by("id")

    def perform_create(self, serializer: Any) -> None:
        only_by_session(self.request)
        if Token.objects.filter(person=person_of(self.request)).count() >= MOST_TOKENS:
            raise Refused("too many", f"a person has at most {MOST_TOKENS} tokens; withdraw one first")
        if not person_of(self.request).may(serializer.validated_data["role"]):
            raise Refused("role", f"a token cannot do more than you: your role is {person_of(self.request).role}", 403)
        key, prefix, hashed = new_key("t")
        token = serializer.save(person=person_of(self.request), prefix=prefix, digest=hashed)
        token.key = key
        record(person_of(self.request), "made token", token.name, {"role": token.role})


class TokenView(generics.DestroyAPIView):
    """Withdraws a token."""

    serializer_class = TokenOut
    writes = "viewer"

    def get_queryset(self) -> Any:
        return Token.objects.filter(person=person_of(self.request))

    def perform_destroy(self, instance: Token) -> None:
        only_by_session(self.request)
        record(person_of(self.request), "withdrew token", instance.name)
        instance.delete()


class RecordView(generics.ListAPIView):
    """What was done, newest first."""

    queryset = Record.objects.order_by("-id")
    serializer_class = RecordOut
    reads = "engineer"

    @extend_schema(parameters=[OpenApiParameter("about", str, description="a device, a type, a site; with its parts")])
    def get(self, request: Request, *args: Any, **kwargs: Any) -> Response:
        return super().get(request, *args, **kwargs)

    def get_queryset(self) -> Any:
        about = self.request.query_params.get("about")
        found = super().get_queryset()
        return found.filter(Q(about=about) | Q(about__startswith=f"{about} ")) if about else found
