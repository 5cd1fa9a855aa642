"""Figures: what fills the space, how a folder grows, and how much of something is right."""

from __future__ import annotations

import io
import warnings
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING, Any

from frugal_sorter.errors import UsageError
from frugal_sorter.filesystem.record import AGE_BANDS, FUTURE_BAND, OLDEST_BAND, OTHER, TYPE_OF_SUFFIX
from frugal_sorter.platforms.slashed import Path
from frugal_sorter.reports.forecast import Point, Trend
from frugal_sorter.reports.inventory import By, Inventory

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


FORMATS = (".png", ".svg", ".pdf")
# The data of a figure.
WAYS_OF_FIGURE: tuple[By, ...] = ("folder", "age", "type")
_ROWS = 12
_FEWEST_SLOTS = 8
_LONGEST_LABEL = 34
# From what was written last to what is oldest, dark to light.
_AGES = (("up to 30 days", "#0b3c49"), ("up to 1 year", "#3d7f8f"), ("up to 3 years", "#8fbcc7"), ("older", "#d5e5e9"))
_INK, _EDGE = "#1c2326", "#48565b"
# Fonts for names in other scripts, as far as they are installed.
_FONTS = ("DejaVu Sans", "Noto Sans", "Noto Sans CJK JP", "IPAGothic", "WenQuanYi Zen Hei", "Droid Sans Fallback",
          "Noto Sans Arabic", "Noto Sans Hebrew", "Noto Sans Devanagari")  # fmt: skip


def _coarse_age(band: str) -> str:
    recent = {FUTURE_BAND, *(name for days, name in AGE_BANDS if days <= 30)}
    year = {name for days, name in AGE_BANDS if 30 < days <= 365}
    return _AGES[0][0] if band in recent else _AGES[1][0] if band in year else _AGES[3][0] if band == OLDEST_BAND else _AGES[2][0]


def _installed_fonts() -> list[str]:
    from matplotlib.font_manager import get_font_names

    installed = set(get_font_names())
    return [name for name in _FONTS if name in installed] or ["DejaVu Sans"]


def draw(inventory: Inventory, base: str, size_text: Callable[[int], str], label: Callable[[str], str]) -> Figure:
    """Draw what an inventory by folder, age and type found.

    Args:
        inventory: counted by `WAYS_OF_FIGURE`.
        base: what the figure is about, for its title.
        size_text: writes a size in bytes.
        label: writes a folder.
    """
    from matplotlib.figure import Figure

    fonts = _installed_fonts()
    folders: dict[str, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    types: dict[str, int] = defaultdict(int)
    for (folder, age, suffix), count in inventory.cells.items():
        folders[label(folder)][_coarse_age(age)] += count.bytes
        types[TYPE_OF_SUFFIX.get(suffix, OTHER)] += count.bytes
    figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="white", layout="constrained")
    left, right = figure.subplots(1, 2, width_ratios=[3, 2])
    _by_folder(left, folders, size_text, fonts)
    _by_type(right, types, size_text, fonts)
    total = f"{inventory.files:,} files, {size_text(inventory.bytes)}"
    figure.suptitle(f"{base}: {total}", fontsize=15, color=_INK, family=fonts, x=0.01, ha="left", parse_math=False)
    return figure


def _folded(rows: Mapping[str, int]) -> list[str]:
    """Return the keys to show, the largest first; what does not fit is folded into one row by the caller."""
    return sorted(rows, key=lambda key: (-rows[key], key))[: _ROWS if len(rows) <= _ROWS else _ROWS - 1]


def _by_folder(axes: Axes, folders: Mapping[str, Mapping[str, int]], size_text: Callable[[int], str], fonts: list[str]) -> None:
    sums = {name: sum(ages.values()) for name, ages in folders.items()}
    names = _folded(sums)
    rest = [name for name in folders if name not in names]
    rows = [(name, dict(folders[name])) for name in names]
    if rest:
        folded: dict[str, int] = defaultdict(int)
        for name in rest:
            for age, size in folders[name].items():
                folded[age] += size
        rows.append((f"and {len(rest):,} more", dict(folded)))
    for age, colour in _AGES:
        starts = [sum(row.get(earlier, 0) for earlier, _ in _AGES[: [a for a, _ in _AGES].index(age)]) for _, row in rows]
        axes.barh(
            range(len(rows)),
            [row.get(age, 0) for _, row in rows],
            left=starts,
            color=colour,
            edgecolor=_EDGE,
            linewidth=0.6,
            label=age,
            height=0.72,
        )
    sizes = [sum(row.values()) for _, row in rows]
    _finish(axes, [name for name, _ in rows], sizes, [*map(size_text, sizes)], fonts)
    axes.set_title("By folder and date last modified", loc="left", fontsize=12, color=_INK, family=fonts)
    if rows:
        # Below the bars, since the last of them can be the longest.
        axes.legend(
            loc="upper left",
            bbox_to_anchor=(0, 0),
            ncols=len(_AGES),
            frameon=False,
            fontsize=10,
            labelcolor=_INK,
            handlelength=1.2,
            columnspacing=1.2,
            borderaxespad=0.3,
        )


def _by_type(axes: Axes, types: Mapping[str, int], size_text: Callable[[int], str], fonts: list[str]) -> None:
    names = _folded(types)
    rest = [name for name in types if name not in names]
    rows = [(name, types[name]) for name in names]
    if rest:
        rows.append((f"and {len(rest):,} more", sum(types[name] for name in rest)))
    axes.barh(range(len(rows)), [size for _, size in rows], color="#b9c4c8", edgecolor=_EDGE, linewidth=0.6, height=0.72)
    sizes = [size for _, size in rows]
    _finish(axes, [name for name, _ in rows], sizes, [*map(size_text, sizes)], fonts)
    axes.set_title("By type", loc="left", fontsize=12, color=_INK, family=fonts)


def _finish(
    axes: Axes, names: list[str], sizes: list[int], texts: list[str], fonts: list[str], fewest: int = _FEWEST_SLOTS
) -> None:
    """Name the bars, each with a text at its end, and take away everything that is not read."""
    labels = [name if len(name) <= _LONGEST_LABEL else f"{name[:16]}…{name[-16:]}" for name in names]
    axes.set_yticks(range(len(names)), labels, fontsize=11, color=_INK, family=fonts, parse_math=False)
    # Few bars are no thicker than many.
    axes.set_ylim(max(len(names), fewest) - 0.4, -0.6)
    most = max(sizes, default=0) or 1
    axes.set_xlim(0, most * 1.22)
    axes.set_xticks([])
    for side in ("top", "right", "bottom"):
        axes.spines[side].set_visible(False)
    axes.spines["left"].set_color(_EDGE)
    axes.tick_params(axis="y", length=0)
    for at, (size, text) in enumerate(zip(sizes, texts, strict=True)):
        axes.text(size + most * 0.012, at, text, va="center", fontsize=11, color=_INK, family=fonts)


_MOST_MARKED = 40


def draw_forecast(points: Sequence[Point], trend: Trend, base: str, size_text: Callable[[int], str]) -> Figure:
    """Draw how a folder has grown, with its trend and, shaded, the interval that it is in.

    Args:
        points: sizes at moments.
        trend: of those points.
        base: what the figure is about, for its title.
        size_text: writes a size in bytes.
    """
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="white", layout="constrained")
    axes = figure.subplots()
    ordered = sorted(points)
    moments: list[Any] = [datetime.fromtimestamp(point.at_ns / 1e9) for point in ordered]
    marks = "o-" if len(ordered) < _MOST_MARKED else "-"
    axes.plot(
        moments,
        [point.bytes for point in ordered],
        marks,
        color="#3d7f8f",
        markerfacecolor="#0b3c49",
        markersize=7,
        linewidth=1.4,
        label="size",
    )
    if trend.per_day is not None and ordered:
        last = ordered[-1]
        ahead = [0.0, max(trend.span_days / 2, 1.0)]
        later: list[Any] = [datetime.fromtimestamp(last.at_ns / 1e9 + days * 86_400) for days in ahead]
        axes.plot(later, [last.bytes + trend.per_day * days for days in ahead], "--", color=_INK, linewidth=1.6, label="trend")
        if trend.low is not None and trend.high is not None:
            lows = [last.bytes + trend.low * days for days in ahead]
            highs = [last.bytes + trend.high * days for days in ahead]
            axes.fill_between(later, lows, highs, color="#d5e5e9", label="95 % interval")
    locator = AutoDateLocator()  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
    axes.yaxis.set_major_formatter(lambda size, _: size_text(round(size)) if size >= 0 else "")
    axes.set_ylim(bottom=0)
    axes.grid(axis="y", color="#d3dadd", linewidth=0.8)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    axes.tick_params(labelsize=11, colors=_INK)
    axes.legend(loc="upper left", frameon=False, fontsize=11, labelcolor=_INK)
    figure.suptitle(
        f"{base}: how it grows", fontsize=15, color=_INK, family=_installed_fonts(), x=0.01, ha="left", parse_math=False
    )
    return figure


def refuse_name(path: Path) -> None:
    """Refuse a file that no chart is written to.

    Raises:
        UsageError: the name says no format, or the file already exists.
    """
    if path.suffix.lower() not in FORMATS:
        raise UsageError(f"{path}: a chart file name must end in {', '.join(FORMATS)}", "end its name with one of them")
    if path.exists():
        raise UsageError(f"{path}: the file already exists", "choose another name, or remove it")


def write(figure: Figure, path: Path) -> None:
    """Write a figure to a new file, in the format that its name says.

    Raises:
        UsageError: the name says no format, the file already exists, or it cannot be written.
    """
    refuse_name(path)
    try:
        with path.open("xb") as file, _without_warnings():
            figure.savefig(file, format=path.suffix[1:].lower())
    except OSError as error:
        raise UsageError(f"{path}: cannot write the chart ({error.strerror})", "choose another place") from None


@contextmanager
def _without_warnings() -> Iterator[None]:
    """Keep quiet of letters that no installed font has: they are drawn as boxes."""
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph")
        yield


def as_svg(figure: Figure) -> str:
    """Return a figure as SVG for use inside a page."""
    import matplotlib

    text = io.StringIO()
    settings: Any = {"svg.fonttype": "none", "svg.hashsalt": "figure"}
    with matplotlib.rc_context(settings), _without_warnings():
        figure.savefig(text, format="svg", transparent=True, metadata={"Date": None, "Creator": None})
    return text.getvalue()[text.getvalue().index("<svg") :]


def draw_shares(rows: Sequence[tuple[str, int, int]]) -> Figure:
    """Draw how much of each row is right: a light bar for all of it, a dark one for that part.

    Args:
        rows: each a label, how many, and how many of these.
    """
    from matplotlib.figure import Figure

    fonts = _installed_fonts()
    figure = Figure(figsize=(12.8, max(3.0, 0.36 * len(rows) + 1.2)), dpi=100, facecolor="white", layout="constrained")
    axes = figure.subplots()
    for values, colour in (([of for _, of, _ in rows], _AGES[3][1]), ([right for _, _, right in rows], _AGES[0][1])):
        axes.barh(range(len(rows)), values, color=colour, edgecolor=_EDGE, linewidth=0.6, height=0.72)
    texts = [f"{right:,} of {of:,}" for _, of, right in rows]
    _finish(axes, [label for label, _, _ in rows], [of for _, of, _ in rows], texts, fonts, fewest=len(rows))
    axes.set_title("Test files placed correctly, by folder", loc="left", fontsize=12, color=_INK, family=fonts)
    return figure
