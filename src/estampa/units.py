"""Units: what is stored (SI, radians), what is shown, and what may be typed."""

import math
import re

from .errors import EstampaError

# stored unit -> {accepted suffix: factor to the stored unit}; the first is the one shown
SUFFIXES: dict[str, dict[str, float]] = {
    "m": {"m": 1.0, "cm": 0.01, "mm": 0.001, "km": 1000.0, "in": 0.0254, "ft": 0.3048},
    "lens": {"mm": 0.001, "m": 1.0, "cm": 0.01, "in": 0.0254},  # stored in m
    "rad": {"deg": math.pi / 180, "°": math.pi / 180, "rad": 1.0, "turn": 2 * math.pi},
    "m/s": {"m/s": 1.0, "km/h": 1 / 3.6, "kn": 1852 / 3600, "cm/s": 0.01, "mph": 0.44704},
    "m/s2": {"m/s²": 1.0, "m/s2": 1.0, "g": 9.80665},
    "kg/m2": {"kg/m²": 1.0, "kg/m2": 1.0, "g/m2": 0.001, "g/m²": 0.001, "gsm": 0.001},
    "kg/m3": {"kg/m³": 1.0, "kg/m3": 1.0, "g/cm3": 1000.0, "g/cm³": 1000.0},
    "rad/s": {"deg/s": math.pi / 180, "°/s": math.pi / 180, "rad/s": 1.0, "rpm": math.pi / 30},
    "N/m": {"N/m": 1.0, "kN/m": 1000.0},
    "Pa": {"Pa": 1.0, "kPa": 1000.0, "mbar": 100.0},
    "stress": {"kPa": 1e3, "Pa": 1.0, "MPa": 1e6, "N/mm²": 1e6, "N/mm2": 1e6},  # stored in Pa
    "N": {"N": 1.0, "kN": 1000.0},
    "N.m/rad": {"N·m/rad": 1.0, "Nm/rad": 1.0, "N.m/rad": 1.0},
    "N.m2": {"N·m²": 1.0, "Nm2": 1.0, "N.m2": 1.0, "N·cm²": 1e-4, "Ncm2": 1e-4},
    "kg": {"kg": 1.0, "g": 0.001},
    "kg/m": {"kg/m": 1.0, "g/m": 0.001},
    "N.m": {"N·m": 1.0, "Nm": 1.0, "N.m": 1.0, "mN·m": 0.001, "mNm": 0.001},
    "1/s": {"1/s": 1.0, "/s": 1.0},
    "1/s2": {"1/s²": 1.0, "1/s2": 1.0},
    "1/m2": {"/m²": 1.0, "/m2": 1.0, "1/m2": 1.0},
    "turn": {"turn": 1.0, "turns": 1.0, "deg": 1 / 360, "°": 1 / 360},
    "rad/m": {"deg/m": math.pi / 180, "°/m": math.pi / 180, "rad/m": 1.0},
    "Hz": {"Hz": 1.0},
    "Pa.s": {"Pa·s": 1.0, "Pa.s": 1.0, "Pas": 1.0, "mPa·s": 0.001, "mPas": 0.001, "cP": 0.001},
    "m2/s": {"m²/s": 1.0, "m2/s": 1.0, "mm²/s": 1e-6, "mm2/s": 1e-6},
    "deg C": {"°C": 1.0, "deg C": 1.0, "C": 1.0},
    "1/K": {"1/K": 1.0, "/K": 1.0},
    "s": {"s": 1.0, "ms": 0.001},
    "fps": {"fps": 1.0},
    "frames": {"f": 1.0, "frames": 1.0, "frame": 1.0, "": 1.0},
    "fraction": {"%": 0.01},
    "factor": {"×": 1.0, "x": 1.0},
    "": {"": 1.0},
}

IMPORT_UNITS = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}

_NUMBER = re.compile(r"^\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(.*?)\s*$")


def shown_suffix(unit: str) -> str:
    return next(iter(SUFFIXES[unit]))


def to_shown(value: float, unit: str) -> float:
    return value / SUFFIXES[unit][shown_suffix(unit)]


def from_shown(value: float, unit: str) -> float:
    return value * SUFFIXES[unit][shown_suffix(unit)]


def format_value(value: float, unit: str, digits: int = 4) -> str:
    """A value with its unit, e.g. "0.12 m", to `digits` significant figures."""
    number = to_shown(value, unit)
    if number == 0 or not 1e-7 < abs(number) < 1e7:
        text = f"{number:.{digits}g}"
    else:
        places = max(0, digits - 1 - math.floor(math.log10(abs(number))))
        text = f"{number:.{places}f}"
        text = text.rstrip("0").rstrip(".") if "." in text else text
    text = "0" if text == "-0" else text
    return f"{text} {shown_suffix(unit)}".strip()


def parse_value(text: str, unit: str) -> float:
    """Read "12 cm" or "5 deg" as a value in the stored unit; a bare number is in the shown unit.

    Raises EstampaError when the text is not a number, or its unit does not measure the same thing.
    """
    match = _NUMBER.match(text.replace(",", ".").replace("−", "-"))
    accepted = SUFFIXES[unit]
    names = ", ".join(name for name in accepted if name) or "a bare number"
    if not match:
        raise EstampaError(f"“{text}”", "is not a number.", f"Type a number, with a unit if you like ({names}).")
    number, suffix = float(match[1]), match[2]
    if not math.isfinite(number):
        raise EstampaError(f"“{text}”", "is too large to be a number here.", "Type a smaller number.")
    if not suffix:
        return from_shown(number, unit)
    if suffix in accepted:
        return number * accepted[suffix]
    raise EstampaError(f"“{text}”", f"has the unit “{suffix}”, which does not fit here.", f"Use {names}.")


def format_length(metres: float) -> str:
    """A length in the unit that reads best."""
    a = abs(metres)
    if a == 0:
        return "0 m"
    if a < 0.001:
        return f"{metres * 1000:.3g} mm"
    if a < 0.1:
        return f"{metres * 1000:.3g} mm" if a < 0.01 else f"{metres * 100:.3g} cm"
    return f"{metres:.3g} m" if a < 1000 else f"{metres / 1000:.3g} km"


def format_volume(cubic: float) -> str:
    """A volume (m3) in the unit that reads best."""
    for unit, size in (("m³", 1.0), ("l", 1e-3), ("cm³", 1e-6)):
        if abs(cubic) >= 0.1 * size:
            return f"{cubic / size:.3g} {unit}"
    return f"{cubic * 1e9:.3g} mm³"


def format_bytes(count: float) -> str:
    """Decimal units: 1 MB is a million bytes."""
    for name in ("B", "kB", "MB", "GB"):
        if count < 1000:
            return f"{count:.0f} B" if name == "B" else f"{count:.3g} {name}"
        count /= 1000
    return f"{count:.3g} TB"
