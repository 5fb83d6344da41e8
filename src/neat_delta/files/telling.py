"""Messages to people and programs: by mail (SMTP with TLS), or to an address of the web as JSON, signed where there
is a key.
"""

from __future__ import annotations

import hashlib
import hmac
import os
import smtplib
import ssl
from collections.abc import Sequence
from dataclasses import dataclass, field
from email.message import EmailMessage

from neat_delta.core.base.support.errors import FileError
from neat_delta.files.sources.address import parse
from neat_delta.files.sources.credentials import credentials_for

__all__ = ["SIGNATURE", "Mail", "post", "send_mail"]

SIGNATURE = "Neat-Delta-Signature"
"""The header that has the HMAC (RFC 2104, SHA-256, hexadecimal) of a body that was sent."""

TIME_OUT = 30
"""Seconds within which a server has to answer."""


@dataclass(frozen=True, slots=True)
class Mail:
    """A mail: from whom, to whom, its subject, plain and as HTML, and what goes along (names and bytes of pages)."""

    sender: str
    to: Sequence[str]
    subject: str
    text: str
    html: str
    attached: Sequence[tuple[str, bytes]] = field(default=())

    @property
    def message(self) -> EmailMessage:
        """The mail as a message (RFC 5322)."""
        message = EmailMessage()
        message["From"], message["To"], message["Subject"] = self.sender, ", ".join(self.to), self.subject
        message.set_content(self.text)
        message.add_alternative(self.html, subtype="html")
        for name, content in self.attached:
            message.add_attachment(content, maintype="text", subtype="html", filename=name)
        return message


def send_mail(address: str, mail: Mail) -> None:
    """Send a mail by the server at an address, `smtps://HOST[:PORT]`, or `smtp://HOST[:PORT]` with STARTTLS (RFC 3207);
    user and password are looked for as those of any other address. FileError where it is not taken.
    """
    where = parse(address)
    if where.scheme not in {"smtp", "smtps"}:
        raise FileError(f"{where.masked}: this is no mail server. Say smtps://HOST, or smtp://HOST with STARTTLS.")
    known = credentials_for(where)
    context = ssl.create_default_context()
    try:
        if where.scheme == "smtps":
            server: smtplib.SMTP = smtplib.SMTP_SSL(where.host, where.port or 465, timeout=TIME_OUT, context=context)
        else:
            server = smtplib.SMTP(where.host, where.port or 587, timeout=TIME_OUT)
        with server:
            if where.scheme == "smtp":
                server.starttls(context=context)
            if known.user and known.password:
                server.login(known.user, known.password)
            server.send_message(mail.message)
    except (OSError, smtplib.SMTPException) as error:
        code = getattr(error, "smtp_code", None)
        why = f"it answers {code}" if code else getattr(error, "strerror", None) or type(error).__name__
        raise FileError(
            f"{where.masked}: the mail could not be sent ({why}). See to the server, and to [tell]."
        ) from None


def post(address: str, body: bytes, key: str | None = None) -> None:
    """Send a body of JSON to an address of the web; with a `key` ($NAME of the environment) it is signed. FileError
    where it is not taken, or the key is not there.
    """
    import httpx

    where = parse(address)
    headers = {"Content-Type": "application/json"}
    if key is not None:
        secret = os.environ.get(key.removeprefix("$"))
        if not secret:
            raise FileError(
                f"{where.masked}: the key {key} is not in the environment, so nothing is sent. Set it there."
            )
        headers[SIGNATURE] = hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()
    known = credentials_for(where)
    if known.token:
        headers["Authorization"] = f"Bearer {known.token}"
    auth = (known.user, known.password or "") if known.user and not known.token else None
    try:
        answer = httpx.post(where.text, content=body, headers=headers, auth=auth, timeout=TIME_OUT)
    except httpx.HTTPError as error:
        raise FileError(f"{where.masked}: it could not be told ({type(error).__name__}). See to [tell].") from None
    if answer.is_error:
        raise FileError(f"{where.masked}: it answers {answer.status_code} to what it was told. See to [tell].")
