"""One message out by whichever way an outlet is."""

from __future__ import annotations

import http.client
import smtplib
import ssl
from collections.abc import Collection, Mapping
from typing import Any

from server.delivery import files, outlets
from server.delivery.outlets import Message, NotTaken, Sent, said
from server.delivery.reach import TIMEOUT_S

WAYS = {"mail": outlets.mail, "webhook": outlets.webhook, "mqtt": outlets.mqtt, "file": files.write}


def send(
    kind: str, settings: Mapping[str, Any], secret: str, to: str, message: Message, allowed: Collection[str]
) -> Sent:
    """Raises OSError, with its reason as text."""
    try:
        return WAYS[kind](settings, secret, to, message, allowed)
    except smtplib.SMTPException as error:
        raise NotTaken(f"the mail server said: {said(error)}") from None
    except (http.client.HTTPException, ssl.SSLError, ValueError) as error:
        raise NotTaken(f"{type(error).__name__}: {error}"[:300]) from None
    except TimeoutError:
        raise NotTaken(f"no answer within {TIMEOUT_S:.0f} s") from None
