"""The people of the demo, and how they sign in."""

from __future__ import annotations

from dataclasses import dataclass

from django.contrib.auth.models import User

from greyanchor.accounts.roles import Role, set_role

#: the made-up shop whose data these are
SHOP = "Northlight Chart House"


@dataclass(frozen=True)
class Account:
    """A demo account, shown on the demo's sign-in page."""

    username: str
    password: str
    first: str
    last: str
    role: str
    reach: Role
    site: str


ACCOUNTS = (
    Account(
        "ines",
        "quay-street-1",
        "Ines",
        "Marrow",
        "lead colour technician, Quay Street",
        Role.LEAD,
        "Quay Street",
    ),
    Account(
        "tobias",
        "lantern-hill-1",
        "Tobias",
        "Fenn",
        "colour technician, Lantern Hill",
        Role.TECHNICIAN,
        "Lantern Hill",
    ),
    Account("ada", "chart-table-1", "Ada", "Quill", "operator, Quay Street", Role.OPERATOR, "Quay Street"),
)


def people() -> dict[str, User]:
    users = {}
    for account in ACCOUNTS:
        user, made = User.objects.get_or_create(
            username=account.username, defaults={"first_name": account.first, "last_name": account.last}
        )
        if made:
            user.set_password(account.password)
            user.save()
            set_role(user, account.reach)
        users[account.username] = user
    return users
