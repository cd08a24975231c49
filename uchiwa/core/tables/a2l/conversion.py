"""Conversions of an A2L file: from raw numbers to values."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.tables.image.number import Rational

_DECIMALS = 9


class NotRepresentableError(ValueError):
    """Something of a description that a layout cannot say; its text is a clause that says why."""


@dataclass(frozen=True, slots=True)
class Conversion:
    """A COMPU_METHOD.

    Attributes:
        name: by which it is referred to.
        kind: `IDENTICAL`, `LINEAR`, `RAT_FUNC`, `TAB_INTP`, …
        format: such as `%8.3`.
        unit: of values.
        coefficients: a to f of RAT_FUNC, raw = (a·x² + b·x + c) / (d·x² + e·x + f); a and b of LINEAR, x = a·raw + b.
    """

    name: str
    kind: str
    format: str = ""
    unit: str = ""
    coefficients: tuple[float, ...] = ()

    @property
    def scaling(self) -> tuple[float, float, Rational | None]:
        """Scale, offset, and the rational conversion in their place.

        Raises:
            NotRepresentableError: values follow from raw numbers in another way.
        """
        match self.kind:
            case "IDENTICAL":
                return 1.0, 0.0, None
            case "LINEAR":
                return self._linear()
            case "RAT_FUNC":
                return self._rational()
            case "TAB_VERB":
                raise NotRepresentableError("its numbers stand for words")
            case "TAB_INTP" | "TAB_NOINTP":
                raise NotRepresentableError("its values follow a table of conversion")
            case "FORM":
                raise NotRepresentableError("its values follow a formula in text")
        raise NotRepresentableError(f"conversions of the kind {self.kind} are not known")

    def _linear(self) -> tuple[float, float, None]:
        if len(self.coefficients) != 2:
            raise NotRepresentableError(f"the conversion {self.name} lacks its coefficients")
        scale, offset = self.coefficients
        if scale == 0:
            raise NotRepresentableError(f"the conversion {self.name} gives one value for every number")
        return scale, offset, None

    def _rational(self) -> tuple[float, float, Rational | None]:
        if len(self.coefficients) != 6:
            raise NotRepresentableError(f"the conversion {self.name} lacks its coefficients")
        a, b, c, d, e, f = self.coefficients
        if a or d:
            raise NotRepresentableError("its conversion is a square, which turns two ways")
        if b * f == c * e:
            raise NotRepresentableError(f"the conversion {self.name} gives one number for every value")
        if e == 0:
            return f / b, -c / b + 0.0, None
        return 1.0, 0.0, Rational(b, c, e, f)

    @property
    def decimals(self) -> int:
        """Digits after the point, by its format; 2 where that says nothing."""
        return decimals_of(self.format)


NO_CONVERSION = Conversion("NO_COMPU_METHOD", "IDENTICAL")


def decimals_of(format_: str) -> int:
    """Digits after the point of a format such as `%8.3`."""
    digits = format_.partition(".")[2].rstrip("fFeEgG")
    return min(int(digits), _DECIMALS) if digits.isdigit() else 2
