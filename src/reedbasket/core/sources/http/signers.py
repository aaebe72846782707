"""Signed requests: a small Python file of the operator's own, `signers/NAME.py` in the data folder.

It defines sign(request, settings), which returns headers to add. The request has method, url, headers and body; the settings are the
source's, with secrets filled in. Definitions only name the signer: its code never comes through the API.
"""

from __future__ import annotations

import importlib.util
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from typing_extensions import override

from ...errors import SourceError
from .authentication import SignIn
from .credentials import Credentials
from .request import Request

Sign = Callable[[Request, Mapping[str, Any]], Mapping[str, str]]


def load_signer(name: str, folder: Path) -> Sign:
    """Load a signer.

    Args:
        folder: of the signers.

    Raises:
        SourceError: the file does not exist, or cannot be loaded.
    """
    path = folder / f"{name}.py"
    if not path.is_file():
        raise SourceError(
            "signing requests with",
            name,
            found=f"no file {path}",
            fix="create one that defines sign(request, settings), which returns headers",
            code="source.signer_missing",
        )
    spec = importlib.util.spec_from_file_location(f"reedbasket_signer_{name}", path)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    try:
        spec.loader.exec_module(module)
        found: Sign = module.sign
    except Exception as error:
        raise _failed(name, error) from error
    return found


class SignedRequests(SignIn):
    """See authentication.SignIn.

    Args:
        settings: what the signer may use, secrets included.
    """

    def __init__(self, name: str, sign: Sign, settings: Mapping[str, Any], others: Credentials) -> None:
        self._name = name
        self._sign = sign
        self._settings = settings
        self._others = others

    @override
    def shown(self, request: Request) -> Credentials:
        try:
            headers = {str(n).lower(): str(v) for n, v in self._sign(request, self._settings).items()}
        except Exception as error:
            raise _failed(self._name, error) from error
        return Credentials({**self._others.headers, **headers}, self._others.query)

    @override
    def refused(self, shown: Credentials) -> bool:
        return False


def _failed(name: str, error: Exception) -> SourceError:
    return SourceError(
        "signing requests with",
        name,
        found=f"{type(error).__name__}: {error}",
        fix="fix the file in the data folder's `signers`",
        code="source.signer_failed",
    )
