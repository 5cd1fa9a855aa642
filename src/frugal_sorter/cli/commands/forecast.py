"""`frugal forecast`: how fast a folder grows, and when its volume is full."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from frugal_sorter.cli.command import tell
from frugal_sorter.cli.options import add_chart, add_format, folder_named
from frugal_sorter.cli.output.results import Column, Table, print_json
from frugal_sorter.cli.output.screen import Screen
from frugal_sorter.cli.output.text import count_text, date_text, iso_text, moment_text, shown, signed_size_text, size_text
from frugal_sorter.cli.reading import require_library
from frugal_sorter.errors import UsageError
from frugal_sorter.platforms import processes
from frugal_sorter.reasons import reason_of
from frugal_sorter.reports.forecast import (
    DAY_NS,
    FEWEST_POINTS,
    Outlook,
    Point,
    Trend,
    outlook_of,
    points_from_dates,
    trend_of,
    trends_by_folder,
)
from frugal_sorter.reports.saved import Saved, kept_of, look_now
from frugal_sorter.values import replace

EXAMPLES = """
  frugal forecast ~/Intake
  frugal inventory ~/Intake --save     each one that is kept makes the forecast better
  frugal forecast ~/Intake --chart intake.png
"""
_ROWS = 15
HOUR_NS = DAY_NS // 24


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", nargs="?", default=".", help="a folder (default: the current one)")
    parser.add_argument("--hidden", action="store_true", help="include hidden files and folders")
    add_chart(parser)
    add_format(parser, "table", "json")


def run(args: argparse.Namespace) -> int:
    folder = folder_named(args.folder)
    try:
        now = look_now(folder, args.hidden, args.call.begin().now_ns)
    except OSError as error:
        raise UsageError(f"{shown(folder)}: {reason_of(error)}", "run as a user who may read it") from error
    kept = [*kept_of(folder, now.made_ns, note=lambda one: tell(f"{one.path}: {one.reason}"), sums_alone=True), now]
    first_visit = len(kept) < FEWEST_POINTS
    if first_visit:
        points, fine = points_from_dates(now)
        trend = trend_of(points, 0)
    else:
        points = fine = [Point(one.made_ns, one.bytes) for one in kept]
        trend = trend_of(points)
    outlook = outlook_of(trend, fine, now.free, now.made_ns)
    by_folder = {} if first_visit else trends_by_folder(kept)
    printer = _print_json if args.format == "json" else _print_table
    printer(now, trend, outlook, by_folder, len(kept) - 1, first_visit)
    if args.chart is not None:
        require_library("--chart", "matplotlib", "reports")
        from frugal_sorter.reports.figures import draw_forecast, write

        # Where no date can be told, no line is drawn into the future.
        drawn = trend if outlook.doubt is None else replace(trend, per_day=None)
        write(draw_forecast(fine, drawn, shown(folder), size_text), args.chart)
    return 0


def _print_table(now: Saved, trend: Trend, outlook: Outlook, by_folder: dict[str, Trend], kept: int, first_visit: bool) -> None:
    screen = Screen()
    screen.parts((shown(now.folder), "bold"), (f"  {count_text(len(now.files), 'file')}, {size_text(now.bytes)}", ""))
    if first_visit:
        count = count_text(kept, "inventory of this folder is", "inventories of this folder are")
        screen.line(f"{count if kept else 'No inventory of this folder is'} saved, so there is no trend yet. This estimate uses")
        screen.line("the dates of the files that are here now, so it is a minimum: deleted files are not counted.")
        screen.line("To improve it: frugal inventory FOLDER --save")
    else:
        source = f"{count_text(kept, 'saved inventory', 'saved inventories')} and the folder now"
        screen.line(f"Based on {source}, over {count_text(round(trend.span_days), 'day')}.")
    screen.line()
    if by_folder:
        rows = sorted(by_folder.items(), key=lambda one: -(one[1].per_day or 0))
        columns = (
            Column("folder", lambda row: row[0]),
            Column.size("now", lambda row: row[1].size),
            _month("per month", lambda one: one.per_day),
            _month("low", lambda one: None if one.is_flat else one.low),
            _month("high", lambda one: None if one.is_flat else one.high),
            Column("note", lambda row: _note(row[1])),
        )
        screen.table(Table("", columns, rows[:_ROWS], ("all", trend)))
        if len(rows) > _ROWS:
            screen.line(f"and {len(rows) - _ROWS:,} more (--format json lists all)")
        screen.line()
    elif trend.per_day is not None and outlook.doubt != "short":
        screen.line(f"Growth: at least {_pace(trend)}, measured over {_time_text(trend.span_days * DAY_NS)}.")
        screen.line()
    _print_outlook(screen, now, trend, outlook, first_visit)


def _pace(trend: Trend) -> str:
    """Return the growth in a unit of time that has been seen whole."""
    assert trend.per_day is not None
    unit, days = ("month", 30) if trend.span_days >= 30 else ("day", 1)
    return f"{signed_size_text(round(trend.per_day * days))} a {unit}"


def _month(head: str, per_day: Callable[[Trend], float | None]) -> Column:
    return Column(head, lambda row: per_day(row[1]), lambda size: signed_size_text(round(size * 30)), is_right=True)


def _note(trend: Trend) -> str:
    notes = []
    if trend.per_day is None:
        notes.append("not enough data")
    elif trend.is_flat:
        notes.append("no growth")
    if trend.peaks:
        notes.append(f"emptied {_how_often(trend)}")
    elif trend.clean_ups:
        notes.append("emptied once")
    if trend.is_bad_fit:
        notes.append("growth is irregular")
    return ", ".join(notes)


def _how_often(trend: Trend) -> str:
    return f"about every {_time_text(trend.emptied_days * DAY_NS).removeprefix('1 ')}"


def _print_outlook(screen: Screen, now: Saved, trend: Trend, outlook: Outlook, first_visit: bool) -> None:
    screen.line(f"Free: {size_text(now.free)} of {size_text(now.total)}.")
    if trend.peaks:
        peak = size_text(max(point.bytes for point in trend.peaks))
        screen.line(
            f"It is emptied {_how_often(trend)} and holds at most {peak} before that; growth is measured between these peaks."
        )
    if outlook.doubt is not None:
        screen.line("Cannot yet tell when the volume will be full:", style="bold")
        for line in _doubted(now, trend, outlook, first_visit):
            screen.line(f"  {line}")
    elif outlook.at_ns is None:
        screen.line("At this rate the volume will not fill up within 100 years.", style="bold")
        if first_visit:
            screen.line("Deleted files are not counted.", style="dim")
    else:
        latest = date_text(outlook.latest_ns) if outlook.latest_ns else "never"
        interval = f", between {date_text(outlook.earliest_ns)} and {latest}" if outlook.earliest_ns else ""
        what = (
            "If only this folder grows, and keeps growing at this rate, the volume will be full on "
            f"{date_text(outlook.at_ns)}{interval}."
        )
        screen.line(what, style="bold")


def _doubted(now: Saved, trend: Trend, outlook: Outlook, first_visit: bool) -> list[str]:
    """Return why no date is given, what can be said instead, and what would make a date possible."""
    lines = []
    pace = outlook.burst
    if outlook.doubt == "no points":
        lines.append("the folder is empty")
    elif outlook.doubt == "short":
        lines.append(f"the data covers only {_time_text(trend.span_days * DAY_NS)}")
    elif outlook.doubt == "two points":
        lines.append("two inventories show a difference, not a trend")
    elif outlook.doubt == "bad fit":
        lines.append("growth is too irregular to project")
    elif outlook.doubt == "few":
        lines.append("there are too few inventories to check a forecast against")
    elif outlook.doubt == "not foretold":
        lines.append("a forecast after two thirds of this time would have been wrong")
    elif outlook.doubt == "wide":
        latest = f"on {date_text(outlook.latest_ns)}" if outlook.latest_ns else "never"
        earliest = date_text(outlook.earliest_ns) if outlook.earliest_ns else "soon"
        lines.append(f"growth varies so much that it could be any time from {earliest} to {latest}")
    if pace is not None:
        since_ns = max(now.made_ns - pace.since_ns, HOUR_NS)
        last = _time_text(since_ns).removeprefix("1 ")
        lines.append(f"{size_text(pace.bytes)} was added in the last {last}, more than in all the time before")
        full_ns = now.made_ns + int(now.free / pace.bytes * since_ns)
        when = moment_text(full_ns) if full_ns - now.made_ns < 2 * DAY_NS else date_text(full_ns)
        if since_ns > HOUR_NS:
            lines.append(f"if that continues, the volume will be full on {when}")
    wait = "in a week and in two" if trend.span_days >= 7 else "tomorrow and the day after"
    helps = f"`frugal inventory {shown(processes.quote(now.folder))} --save`"
    lines.append(f"to find out, run {helps} {wait}" if first_visit else f"to find out, save a few more inventories: {helps}")
    return lines


def _time_text(ns: float) -> str:
    """Return a stretch of time in a unit that suits it."""
    for unit, length_ns in (("day", DAY_NS), ("hour", HOUR_NS)):
        if ns >= 2 * length_ns or (unit == "hour" and ns >= length_ns):
            return count_text(round(ns / length_ns), unit)
    return count_text(max(round(ns * 24 * 60 / DAY_NS), 1), "minute")


def _print_json(now: Saved, trend: Trend, outlook: Outlook, by_folder: dict[str, Trend], kept: int, first_visit: bool) -> None:
    def told(one: Trend) -> dict[str, object]:
        return {"bytes": one.size, "bytes_a_day": one.per_day, "low": one.low, "high": one.high, "points": one.points,
                "clean_ups": one.clean_ups, "emptied_days": one.emptied_days if one.peaks else None,
                "peak": max((point.bytes for point in one.peaks), default=None), "misfit": one.misfit,
                "flat": one.is_flat}  # fmt: skip

    def date(ns: int | None) -> str | None:
        return None if ns is None else iso_text(ns)

    burst = outlook.burst
    result = {
        "folder": now.folder, "inventories": kept, "lower_bound": first_visit, "all": told(trend),
        "folders": {name: told(one) for name, one in by_folder.items()}, "free": now.free, "total": now.total,
        "full": date(outlook.at_ns), "full_earliest": date(outlook.earliest_ns), "full_latest": date(outlook.latest_ns),
        "cannot_tell": outlook.doubt,
        "burst": None if burst is None else {"since": iso_text(burst.since_ns), "bytes": burst.bytes},
    }  # fmt: skip
    print_json(result)
