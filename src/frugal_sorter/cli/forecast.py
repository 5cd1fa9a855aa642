"""`frugal forecast`: how fast a folder grows, and when its volume is full."""

from __future__ import annotations

import argparse
import json
import os
from pathlib import Path

from frugal_sorter.cli.compare import saved_inventories
from frugal_sorter.cli.options import add_format
from frugal_sorter.cli.reading import require_library
from frugal_sorter.cli.screen import Screen
from frugal_sorter.cli.text import count_text, date_text, iso_text, now_ns, shown, signed_size_text, size_text
from frugal_sorter.errors import UsageError
from frugal_sorter.files.walk import reason_of
from frugal_sorter.reports.forecast import (
    FEWEST_POINTS,
    Point,
    Trend,
    full_at_ns,
    points_from_dates,
    trend_of,
    trends_by_folder,
)  # fmt: skip
from frugal_sorter.reports.saved import Saved, look_now

EXAMPLES = """
  frugal forecast ~/Intake
  frugal inventory ~/Intake --save     each one that is kept makes the forecast better
  frugal forecast ~/Intake --chart intake.png
"""
_ROWS = 15


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", help="a folder")
    parser.add_argument("--hidden", action="store_true", help="hidden entries too")
    parser.add_argument("--chart", metavar="FILE", type=Path, help="also draw a figure: FILE.png, .svg or .pdf")
    add_format(parser, "table", "json")


def run(args: argparse.Namespace) -> int:
    if not args.folder or not os.path.isdir(args.folder):
        raise UsageError(f"{args.folder or '(empty)'}: there is no such folder", "check the path")
    require_library("frugal forecast", "scipy", "reports")
    folder = os.path.realpath(args.folder)
    try:
        now = look_now(folder, args.hidden, now_ns())
    except OSError as error:
        raise UsageError(f"{args.folder}: {reason_of(error)}", "run as a user who may read it") from error
    kept = [*saved_inventories(folder), now]
    first_visit = len(kept) < FEWEST_POINTS
    points = points_from_dates(now) if first_visit else [Point(one.made_ns, one.bytes) for one in kept]
    trend = trend_of(points)
    by_folder = {} if first_visit else trends_by_folder(kept)
    printer = _print_json if args.format == "json" else _print_table
    printer(now, trend, by_folder, len(kept) - 1, first_visit)
    if args.chart is not None:
        require_library("--chart", "matplotlib", "reports")
        from frugal_sorter.reports.charts import draw_forecast, write

        write(draw_forecast(points, trend, shown(folder), size_text), args.chart)
    return 0


def _print_table(now: Saved, trend: Trend, by_folder: dict[str, Trend], kept: int, first_visit: bool) -> None:
    screen = Screen()
    screen.parts((shown(now.folder), "bold"), (f"  {count_text(len(now.files), 'file')}, {size_text(now.bytes)}", ""))
    if first_visit:
        count = count_text(kept, "inventory of this folder is", "inventories of this folder are")
        screen.line(
            f"{count if kept else 'No inventory of this folder is'} kept, too few for a trend; told from the dates of"
        )
        screen.line(
            "what is there now: a lower bound, since what was deleted is not seen. `frugal inventory FOLDER --save` helps."
        )
    else:
        source = f"{count_text(kept, 'inventory', 'inventories')} that were kept and what is there now"
        screen.line(f"From {source}, over {trend.span_days:.0f} days.")
    screen.line()
    if by_folder:
        rows = sorted(by_folder.items(), key=lambda one: -(one[1].per_day or 0))
        columns = [("folder", "left"), ("now", "right"), ("a month", "right"), ("between", "right"), ("and", "right")]
        columns.append(("note", "left"))
        cells = [[shown(name), *_cells(one)] for name, one in rows[:_ROWS]]
        screen.table(columns, cells, ["all", *_cells(trend)])
        if len(rows) > _ROWS:
            screen.line(f"and {len(rows) - _ROWS:,} more (--format json lists all)")
    elif trend.per_day is not None:
        screen.line(f"Growth: at least {signed_size_text(round(trend.per_day * 30))} a month, over the last 12 months.")
    screen.line()
    _print_full(screen, now, trend)


def _cells(trend: Trend) -> list[str]:
    def month(per_day: float | None) -> str:
        return "" if per_day is None else signed_size_text(round(per_day * 30))

    return [size_text(trend.size), month(trend.per_day), month(trend.low), month(trend.high), _note(trend)]


def _note(trend: Trend) -> str:
    notes = []
    if trend.per_day is None:
        notes.append("too little to tell")
    elif trend.is_flat:
        notes.append("no growth")
    if trend.clean_ups:
        notes.append(f"between {count_text(trend.clean_ups, 'clean-up')}")
    if trend.is_bad_fit:
        notes.append("a line fits badly")
    return ", ".join(notes)


def _print_full(screen: Screen, now: Saved, trend: Trend) -> None:
    likely, earliest, latest = full_at_ns(trend, now.free, now.made_ns)
    screen.line(f"Free: {size_text(now.free)} of {size_text(now.total)}.")
    if likely is None:
        screen.line("At this pace the volume does not fill within a hundred years.", style="bold")
        return
    interval = ""
    if earliest is not None and trend.low is not None:
        interval = f", between {date_text(earliest)} and {date_text(latest) if latest else 'in a hundred years'}"
    screen.line(
        f"If only this folder grows, and goes on so, the volume is full on {date_text(likely)}{interval}.", style="bold"
    )
    if trend.is_bad_fit:
        screen.line("A line fits these points badly: take the date for an order of magnitude.", style="yellow")
    if trend.points == 2:
        screen.line("Two points are a difference, not a trend.", style="yellow")


def _print_json(now: Saved, trend: Trend, by_folder: dict[str, Trend], kept: int, first_visit: bool) -> None:
    def told(one: Trend) -> dict[str, object]:
        return {"bytes": one.size, "bytes_a_day": one.per_day, "low": one.low, "high": one.high, "points": one.points,
                "clean_ups": one.clean_ups, "misfit": one.misfit, "flat": one.is_flat}  # fmt: skip

    dates = [None if ns is None else iso_text(ns) for ns in full_at_ns(trend, now.free, now.made_ns)]
    result = {
        "folder": now.folder, "inventories": kept, "lower_bound": first_visit, "all": told(trend),
        "folders": {name: told(one) for name, one in by_folder.items()}, "free": now.free, "total": now.total,
        "full": dates[0], "full_earliest": dates[1], "full_latest": dates[2],
    }  # fmt: skip
    print(json.dumps(result, indent=2))
