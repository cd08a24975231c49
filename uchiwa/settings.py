"""What a person sets from outside, by environment variables; docs/settings.md lists them."""

from __future__ import annotations

import ipaddress
import os
from functools import cache
from pathlib import Path
from typing import Any, Literal
from urllib.parse import urlsplit

from pydantic import Field, SecretStr, ValidationError, field_validator, model_validator
from pydantic_settings import BaseSettings, SettingsConfigDict

from uchiwa.core.errors import BadInput

FIRST_PORT = 8460
DEMO = "UCHIWA_DEMO"
"""Set to “yes” by `uchiwa serve --demo` for the processes it starts."""
_PREFIX = "UCHIWA_"
_MOST_BY_ITSELF, _MOST_PROCESSES = 4, 32


class Settings(BaseSettings):
    """The settings of the application, each from the variable `UCHIWA_` and its name in capitals."""

    model_config = SettingsConfigDict(env_prefix=_PREFIX, env_ignore_empty=True, frozen=True, extra="ignore")

    home: Path = Field(default=Path(".uchiwa"), description="folder of all state on disk")
    port: int = Field(default=FIRST_PORT, gt=0, lt=65536, description="of the application, on loopback")
    public_address: str = Field(
        default="", description="scheme and host under which people reach it; all links that leave it begin with this"
    )
    trusted_proxies: str = Field(
        default="", description="addresses or networks whose X-Forwarded-For is believed, separated by commas"
    )
    web_processes: int = Field(
        default_factory=lambda: max(1, min(_MOST_BY_ITSELF, os.cpu_count() or 1)),
        gt=0,
        le=_MOST_PROCESSES,
        description="that answer requests side by side; by default one for each core, up to four",
    )
    db_port: int | None = Field(
        default=None, gt=0, lt=65536, description="of the database, on loopback; by default one that is free"
    )
    db_verified: bool = Field(
        default=True,
        description="a database on another machine has to prove by its certificate who it is; it is encrypted anyway",
    )
    db_authority: Path | None = Field(
        default=None,
        description="file with the certificate of the authority that has signed the database's; by default the system's",
    )
    db_fast: bool = Field(default=False, description="let the database write to disk late; for tests only")
    drives_kept: Path | None = Field(
        default=None, description="folder in which drives of stand-in cars are kept, so that none is simulated twice"
    )
    mail_host: str = Field(default="", description="mail server that takes the mails; empty: no mail is sent")
    mail_port: int = Field(default=587, gt=0, lt=65536, description="of the mail server")
    mail_security: Literal["starttls", "tls", "none"] = Field(
        default="starttls", description="how the mail server is spoken to; none only on loopback"
    )
    mail_user: str = Field(default="", description="name at the mail server; empty: without signing in")
    mail_password: SecretStr = Field(default=SecretStr(""), description="at the mail server")
    mail_from: str = Field(default="uchiwa@localhost", description="address that mails come from")
    cache_megabytes: int = Field(
        default=128, ge=16, le=16_384, description="of what is worked out from logs, remembered by each web process"
    )
    disk_cache_megabytes: int = Field(
        default=1024, ge=0, le=1_048_576,
        description="of the same on disk, in the folder of all state, shared by all processes of this machine; 0: none",
    )  # fmt: skip
    shop_gigabytes: float = Field(
        default=50.0, gt=0, description="what the raw logs of one shop may take, unless it was given its own figure"
    )
    metrics: str = Field(
        default="", description="address and port at which figures for Prometheus are served, as 127.0.0.1:9460"
    )
    log_format: Literal["console", "json"] = Field(default="console", description="how the server's log is written")
    log_level: Literal["debug", "info", "warning", "error"] = Field(
        default="warning", description="the least that is written; info tells every request"
    )

    @field_validator("public_address")
    @classmethod
    def _is_an_address(cls, value: str) -> str:
        parts = urlsplit(value.rstrip("/"))
        plain = not (parts.path or parts.query or parts.fragment)
        if value and not (parts.scheme in ("http", "https") and parts.netloc and plain):
            raise ValueError("set for example https://tune.example")
        return value.rstrip("/")

    @field_validator("metrics")
    @classmethod
    def _is_a_place(cls, value: str) -> str:
        host, _, port = value.strip().rpartition(":")
        if value.strip() and not (host and port.isascii() and port.isdigit() and 0 < int(port) < 65536):
            raise ValueError("set for example 127.0.0.1:9460")
        return value.strip()

    @field_validator("trusted_proxies")
    @classmethod
    def _are_networks(cls, value: str) -> str:
        for one in filter(None, (word.strip() for word in value.split(","))):
            try:
                ipaddress.ip_network(one)
            except ValueError:
                raise ValueError("set for example 10.0.0.5, 192.168.3.0/24") from None
        return value.strip()

    @model_validator(mode="before")
    @classmethod
    def _own_address(cls, data: Any) -> Any:
        """Without an address of its own it is reached on its port."""
        if isinstance(data, dict) and not data.get("public_address"):
            return data | {"public_address": f"http://127.0.0.1:{data.get('port', FIRST_PORT)}"}
        return data

    @model_validator(mode="after")
    def _mail_is_not_overheard(self) -> Settings:
        if self.mail_host and self.mail_security == "none" and not _is_here(self.mail_host):
            raise ValueError("UCHIWA_MAIL_SECURITY may be none only for a mail server on this machine")
        return self

    @property
    def https(self) -> bool:
        """Whether people reach it over TLS, so that cookies are never to go without."""
        return self.public_address.startswith("https://")


def _is_here(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def read_settings() -> Settings:
    """The settings of this process' environment.

    Raises:
        BadInput: one of them cannot be used.
    """
    try:
        return Settings()
    except ValidationError as error:
        first = error.errors()[0]
        said = first["msg"].removeprefix("Value error, ")
        if not first["loc"]:
            raise BadInput("the settings do not fit together", where="the settings", advice=said) from None
        name = _PREFIX + str(first["loc"][0]).upper()
        raise BadInput(f"“{first['input']}” cannot be used", where=name, advice=said[:1].lower() + said[1:]) from None


@cache
def as_table() -> str:
    """The settings as the table that the documentation carries."""
    lines = ["| variable | default | what it sets |", "|---|---|---|"]
    for name, field in Settings.model_fields.items():
        usual = "" if field.is_required() or field.default_factory else field.default
        default = "" if usual in (None, "", False) or not isinstance(usual, (str, int, float, Path)) else f"`{usual}`"
        lines.append(f"| `{_PREFIX}{name.upper()}` | {default} | {field.description} |")
    return "\n".join(lines)
