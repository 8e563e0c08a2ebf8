"""The keys and types of a search file, for pydantic to check."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator
from pydantic_core import PydanticCustomError


class MethodShape(BaseModel):
    """The table ``[method]``; its options are checked by the method."""

    model_config = ConfigDict(extra="allow", strict=True)

    name: str = "guided_racing"


class StartShape(BaseModel):
    """The table ``[start]``."""

    model_config = ConfigDict(extra="forbid", strict=True)

    search: Annotated[int, Field(ge=1)] = 0
    run: Annotated[int, Field(ge=1)] = 0
    at: Literal["last", "best"] = "last"
    model: Annotated[str, Field(max_length=4096)] = ""

    @model_validator(mode="after")
    def _names_one(self) -> StartShape:
        if (self.search > 0 and self.run > 0) == bool(self.model) or bool(self.search) != bool(
                self.run):
            raise PydanticCustomError("start", "give search and run, or model")
        return self


class BranchShape(BaseModel):
    """The table ``[branch]``."""

    model_config = ConfigDict(extra="forbid", strict=True)

    search: Annotated[int, Field(ge=1)]
    recipe: Annotated[int, Field(ge=1)]
    reason: Annotated[str, Field(max_length=2000)] = ""
    aside: bool = False


class SearchShape(BaseModel):
    """A whole search file."""

    model_config = ConfigDict(extra="forbid", strict=True)

    format: int = 1
    name: Annotated[str, Field(min_length=1, max_length=200)] = "search"
    data: str = ""
    seed: Annotated[int, Field(ge=0, lt=2**63)] = 1
    cluster: Annotated[str, Field(max_length=300)] = ""
    repeats: Annotated[int, Field(ge=1, le=1000)] = 2
    confirm: Annotated[int, Field(ge=0, le=100)] = 0
    earlier: Literal["use", "ignore"] = "use"
    constraints: list[str] = []
    method: MethodShape = MethodShape()
    start: StartShape | None = None
    branch: BranchShape | None = None
    decisions: dict[str, Any] = {}
    recipe: dict[str, Any] = {}
    vary: dict[str, str | int | float] = {}
