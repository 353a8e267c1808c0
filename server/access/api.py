"""Signing in and out, people, tokens, the record."""

from __future__ import annotations

import time
from collections import defaultdict, deque
from typing import Any
from zoneinfo import available_timezones

from django.contrib.auth import authenticate, login, logout, password_validation
from django.core.exceptions import ValidationError
from django.db import connection
from django.middleware.csrf import get_token
from drf_spectacular.utils import OpenApiResponse, extend_schema
from rest_framework import generics, serializers
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from .authentication import person_of
from .errors import Refused
from .keys import new_key
from .models import ROLES, Person, Record, Token, record
from .text import harmless


class Me(serializers.Serializer):
    username = serializers.CharField()
    name = serializers.CharField()
    role = serializers.ChoiceField(ROLES)
    zone = serializers.CharField()
    csrf = serializers.CharField()


class SignIn(serializers.Serializer):
    username = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=200)


class PersonOut(serializers.ModelSerializer):
    name = serializers.CharField(source="first_name", max_length=150)
    password = serializers.CharField(write_only=True, required=False, min_length=12, max_length=200)

    class Meta:
        model = Person
        fields = ["id", "username", "name", "role", "zone", "is_active", "password"]

    def validate_password(self, value: str) -> str:
        try:
            password_validation.validate_password(value)
        except ValidationError as error:
            raise serializers.ValidationError(error.messages) from None
        return value

    def validate_zone(self, value: str) -> str:
        if value not in available_timezones():
            raise serializers.ValidationError(f"`{value}` is not a time zone, such as Etc/GMT+2")
        return value


class TokenOut(serializers.ModelSerializer):
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
        "name": person.first_name or person.username,
        "role": person.role,
        "zone": person.zone,
        "csrf": get_token(request._request),
    }


_failures: dict[str, deque[float]] = defaultdict(lambda: deque(maxlen=10))


class SignInView(APIView):
    permission_classes = [AllowAny]
    authentication_classes: list[Any] = []

    @extend_schema(request=SignIn, responses=Me, operation_id="sign_in", tags=["access"])
    def post(self, request: Request) -> Response:
        """Starts a session. Ten failures a minute for one name or address, and it waits."""
        asked = SignIn(data=request.data)
        asked.is_valid(raise_exception=True)
        name = asked.validated_data["username"]
        now = time.monotonic()
        watched = [_failures[f"name {name}"], _failures[f"address {request.META.get('REMOTE_ADDR')}"]]
        if any(len(tries) == 10 and now - tries[0] < 60 for tries in watched):
            raise Refused("too many", "too many sign-ins failed; wait a minute", 429)
        person = authenticate(request._request, username=name, password=asked.validated_data["password"])
        if person is None:
            for tries in watched:
                tries.append(now)
            if len(_failures) > 5000:
                _failures.clear()
            record(None, "sign-in refused", who=harmless(name, 80))
            raise Refused("sign-in", "name and password do not go together", 403)
        login(request._request, person)
        request.user = person
        record(person, "signed in")
        return Response(me_of(request))


class SignOutView(APIView):
    writes = "viewer"

    @extend_schema(
        request=None, responses=OpenApiResponse(description="signed out"), operation_id="sign_out", tags=["access"]
    )
    def post(self, request: Request) -> Response:
        record(person_of(request), "signed out")
        with connection.cursor() as cursor:
            cursor.execute("select pg_notify('oculum_people', %s)", (str(person_of(request).pk),))
        logout(request._request)
        return Response(status=204)


class MeView(APIView):
    @extend_schema(responses=Me, operation_id="me", tags=["access"])
    def get(self, request: Request) -> Response:
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
        person = serializer.save()
        person.set_password(password)
        person.save()
        record(person_of(self.request), "added person", person.username, role=person.role)


class PersonView(generics.RetrieveUpdateAPIView):
    """One person: role, zone, whether active."""

    queryset = Person.objects.all()
    serializer_class = PersonOut
    reads = writes = "admin"
    http_method_names = ["get", "patch"]

    def perform_update(self, serializer: Any) -> None:
        password = serializer.validated_data.pop("password", None)
        person = serializer.save()
        if password:
            person.set_password(password)
            person.save()
        with connection.cursor() as cursor:
            cursor.execute("select pg_notify('oculum_people', %s)", (str(person.pk),))
        record(person_of(self.request), "changed person", person.username, role=person.role, active=person.is_active)


class TokensView(generics.ListCreateAPIView):
    """Tokens for programs of the person who asks. The key is shown once, in the answer that makes it."""

    serializer_class = TokenOut
    reads = writes = "viewer"

    def get_queryset(self) -> Any:
        return Token.objects.filter(person=person_of(self.request)).order_by("id")

    def perform_create(self, serializer: Any) -> None:
        if not person_of(self.request).may(serializer.validated_data["role"]):
            raise Refused("role", f"a token cannot do more than you: your role is {person_of(self.request).role}", 403)
        key, prefix, hashed = new_key("t")
        token = serializer.save(person=person_of(self.request), prefix=prefix, digest=hashed)
        token.key = key
        record(person_of(self.request), "made token", token.name, role=token.role)


class TokenView(generics.DestroyAPIView):
    """Withdraws a token."""

    serializer_class = TokenOut
    writes = "viewer"

    def get_queryset(self) -> Any:
        return Token.objects.filter(person=person_of(self.request))

    def perform_destroy(self, instance: Token) -> None:
        record(person_of(self.request), "withdrew token", instance.name)
        instance.delete()


class RecordView(generics.ListAPIView):
    """What was done, newest first."""

    queryset = Record.objects.order_by("-id")
    serializer_class = RecordOut
    reads = "engineer"
