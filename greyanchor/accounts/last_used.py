"""Pages that open with the choice that was used last, or with the likely one, kept in the address."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import wraps
from typing import Any
from urllib.parse import urlencode

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect

View = Callable[..., HttpResponse]


def opens_with(page: str, likely: Callable[[], Mapping[str, Any]]) -> Callable[[View], View]:
    """Without a choice in its address a page opens with the one that this person used last.

    Parameters
    ----------
    page
        What the choice is remembered under, in the session.
    likely
        Gives the choice to begin with, as parameters of the address; empty where there is none to make.
    """
    place = f"last choice: {page}"

    def wrap(view: View) -> View:
        @wraps(view)
        def shown(request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
            if request.method != "GET" or (request.GET and "HX-Request" in request.headers):
                return view(request, *args, **kwargs)
            if not request.GET:
                query = request.session.get(place) or urlencode(likely())
                return redirect(f"{request.path}?{query}") if query else view(request, *args, **kwargs)
            try:
                answer = view(request, *args, **kwargs)
            except Http404:
                request.session.pop(place, None)  # what it named is gone
                raise
            if answer.status_code == 200:
                request.session[place] = request.GET.urlencode()
            else:
                request.session.pop(place, None)
            return answer

        return shown

    return wrap
