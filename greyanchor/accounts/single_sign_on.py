"""Signing in by OpenID Connect, where the shop has a provider. Who has no account here gets none by it."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import jwt
import requests
from django.conf import settings
from django.contrib.auth.models import User
from django.core.exceptions import SuspiciousOperation
from mozilla_django_oidc.auth import OIDCAuthenticationBackend
from mozilla_django_oidc.utils import import_from_settings

from greyanchor.core.errors import BadInput

_DISCOVERED = {
    "OIDC_OP_AUTHORIZATION_ENDPOINT": "authorization_endpoint",
    "OIDC_OP_TOKEN_ENDPOINT": "token_endpoint",
    "OIDC_OP_USER_ENDPOINT": "userinfo_endpoint",
    "OIDC_OP_JWKS_ENDPOINT": "jwks_uri",
}


@lru_cache(maxsize=1)
def _provider(issuer: str) -> dict[str, Any]:
    """What a provider says of itself (OpenID Connect Discovery 1.0, section 4)."""
    address = f"{issuer.rstrip('/')}/.well-known/openid-configuration"
    try:
        answer = requests.get(address, timeout=settings.OIDC_TIMEOUT)
        answer.raise_for_status()
        found = answer.json()
    except (requests.RequestException, ValueError):
        raise BadInput("the provider of sign-in does not answer; sign in with a password") from None
    if not isinstance(found, dict) or str(found.get("issuer", "")).rstrip("/") != issuer.rstrip("/"):
        raise BadInput("the provider of sign-in says that it is another one; ask whoever runs this server")
    return found


def setting(name: str, *default: Any) -> Any:
    """A setting of the sign-in; addresses of the provider are those that it says."""
    if name in _DISCOVERED:
        return _provider(settings.OIDC_ISSUER).get(_DISCOVERED[name], "")
    return import_from_settings(name, *default)


class ByProvider(OIDCAuthenticationBackend):  # type: ignore[misc]
    """Whom the provider knows, where the shop has an active account of that name."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        # asked for every sign-in, by a password too: the provider is only asked when it is its turn
        self.UserModel = User

    def authenticate(self, request: Any, **kwargs: Any) -> User | None:
        if request is None or "nonce" not in kwargs:
            return None
        super().__init__()
        found: User | None = super().authenticate(request, **kwargs)
        return found

    @staticmethod
    def get_settings(name: str, *default: Any) -> Any:
        return setting(name, *default)

    def retrieve_matching_jwk(self, token: str) -> Any:
        """The provider's key that a token names; the only one, where it names none (RFC 7515, 4.1.4)."""
        answer = requests.get(self.OIDC_OP_JWKS_ENDPOINT, timeout=settings.OIDC_TIMEOUT)
        answer.raise_for_status()
        named = jwt.get_unverified_header(token).get("kid")
        fit = [
            k for k in answer.json()["keys"]
            if k.get("kty") == "RSA" and k.get("use", "sig") == "sig" and named in (None, k.get("kid"))
        ]  # fmt: skip
        if len(fit) != 1:
            raise SuspiciousOperation("the provider has no such key, or several")
        return jwt.PyJWK(fit[0], settings.OIDC_RP_SIGN_ALGO)

    def verify_token(self, token: str, **kwargs: Any) -> dict[str, Any]:
        """Besides the signature: who issued it and for whom (OpenID Connect Core 1.0, section 3.1.3.7)."""
        found: dict[str, Any] = super().verify_token(token, **kwargs)
        whom = found.get("aud")
        if settings.OIDC_RP_CLIENT_ID not in (whom if isinstance(whom, list) else [whom]):
            raise SuspiciousOperation("the token is for another program")
        if str(found.get("iss", "")).rstrip("/") != settings.OIDC_ISSUER.rstrip("/"):
            raise SuspiciousOperation("the token is of another provider")
        return found

    def get_userinfo(self, access_token: str, id_token: str, payload: dict[str, Any]) -> dict[str, Any]:
        found: dict[str, Any] = super().get_userinfo(access_token, id_token, payload)
        if found.get("sub") != payload.get("sub"):
            raise SuspiciousOperation("the provider speaks of two people")
        return {**payload, **found}

    def verify_claims(self, claims: dict[str, Any]) -> bool:
        return bool(claims.get(settings.OIDC_CLAIM))

    def filter_users_by_claims(self, claims: dict[str, Any]) -> Any:
        name = str(claims.get(settings.OIDC_CLAIM, ""))
        self.request.session["provider_name"] = name[:150]
        return User.objects.filter(username__iexact=name, is_active=True)
