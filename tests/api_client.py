"""A signed-in client of a live server, as a script would be."""

from __future__ import annotations

import json
import urllib.error
import urllib.request
from http.cookiejar import CookieJar
from typing import Any

from tests.conftest import Instance


class Api:
    def __init__(self, instance: Instance, sign_in: bool = True) -> None:
        self.instance = instance
        self.cookies = CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.cookies))
        self.opener.open(instance.url)  # the page hands out the CSRF cookie
        if sign_in:
            assert self.post("/api/session", {"name": instance.name, "password": instance.password})[0] == 200

    def _send(self, request: urllib.request.Request) -> tuple[int, Any]:
        try:
            with self.opener.open(request, timeout=120) as answer:
                body = answer.read()
                return answer.status, json.loads(body) if body else None
        except urllib.error.HTTPError as error:
            return error.code, json.loads(error.read() or b"null")

    def get(self, path: str) -> tuple[int, Any]:
        return self._send(urllib.request.Request(self.instance.url + path))

    def put(self, path: str, body: Any) -> tuple[int, Any]:
        return self.post(path, body, method="PUT")

    def post(self, path: str, body: Any, csrf: bool = True, method: str = "POST") -> tuple[int, Any]:
        token = next((cookie.value for cookie in self.cookies if cookie.name == "csrftoken"), "") or ""
        headers = {"Content-Type": "application/json"} | ({"X-CSRFToken": token} if csrf else {})
        return self._send(urllib.request.Request(self.instance.url + path, json.dumps(body).encode(), headers, method=method))
