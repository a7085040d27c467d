"""The OpenAPI document: each schema under the one name of its class."""

from __future__ import annotations

from typing import Any

from apiflask import APIFlask

_SCHEMAS = "#/components/schemas/"


def name_schemas_plainly(app: APIFlask) -> None:
    """Nested schemas come as 'Outer.Inner', once for each outer one: they get the name of their class."""

    @app.spec_processor
    def rename(document: dict[Any, Any] | str) -> dict[Any, Any] | str:
        assert isinstance(document, dict)
        plain: dict[Any, Any] = _plain(document)
        schemas = plain["components"]["schemas"]
        # A place's blueprint names its tag anew.
        plain["tags"] = list({tag["name"]: tag for tag in plain.get("tags", [])}.values())
        plain["components"]["schemas"] = {_last(name): schema for name, schema in schemas.items()}
        return plain


def _last(name: str) -> str:
    return name.rpartition(".")[2]


def _plain(node: Any) -> Any:
    """The same, with every reference to a schema by its plain name."""
    if isinstance(node, dict):
        return {
            key: _SCHEMAS + _last(value.removeprefix(_SCHEMAS))
            if key == "$ref" and str(value).startswith(_SCHEMAS)
            else _plain(value)
            for key, value in node.items()
        }
    return [_plain(value) for value in node] if isinstance(node, list) else node
