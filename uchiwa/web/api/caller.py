"""Who calls, by the token of the request's head, and what they may do."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi import Depends, HTTPException, Request
from fastapi.security import HTTPBearer
from starlette.types import Scope

from uchiwa.store import api_tokens, attempts
from uchiwa.store.models import ApiToken, User

PATH = "/api/v1"
A_MINUTE = 600
_KEY = "uchiwa.api_token"
_MINUTE = timedelta(minutes=1)
bearer = HTTPBearer(auto_error=False, description="A token of your account’s page, such as `uchiwa_…`.")


class TooOftenError(Exception):
    """A token has asked too often within a minute."""


def token_in(scope: Scope) -> ApiToken | None:
    """The token of a request, looked up once and counted; None if it has none that works. Call where waiting is allowed.

    Raises:
        TooOftenError: it has asked too often.
    """
    if _KEY not in scope:
        told = dict(scope["headers"]).get(b"authorization", b"").decode("latin-1")
        kind, _, secret = told.partition(" ")
        found = api_tokens.find(secret.strip()) if kind.lower() == "bearer" else None
        scope[_KEY] = found
        if found is not None and attempts.count(attempts.mark("api", str(found.id)), _MINUTE) > A_MINUTE:
            raise TooOftenError
    token: ApiToken | None = scope[_KEY]
    return token


def _caller(request: Request) -> ApiToken:
    token = token_in(request.scope)
    if token is None:
        raise HTTPException(401, "This needs a token that works.", headers={"www-authenticate": "Bearer"})
    return token


class RequiredScope:
    """A dependency: the person who calls, if the token has a scope."""

    def __init__(self, scope: str) -> None:
        self.scope = scope

    def __call__(self, token: Annotated[ApiToken, Depends(_caller)]) -> User:
        """The person.

        Raises:
            HTTPException: 403 if the token may not.
        """
        if not api_tokens.may(token, self.scope):
            why = "its person may not" if self.scope in token.scopes.split() else f"it lacks the scope “{self.scope}”"
            raise HTTPException(403, f"This token may not {api_tokens.SCOPES[self.scope]}: {why}.")
        user: User = token.user
        return user


Reader = Annotated[User, Depends(RequiredScope(api_tokens.READ))]
Sender = Annotated[User, Depends(RequiredScope(api_tokens.SEND))]
Fetcher = Annotated[User, Depends(RequiredScope(api_tokens.FETCH))]
