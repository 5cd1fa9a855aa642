"""A plan on the screen: what would be done, what is left and why, the nearest misses, and what was freed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from frugal_sorter.app.session import Session
from frugal_sorter.cli.output.screen import FEW, Screen, in_pager
from frugal_sorter.cli.output.text import (
    attribute_text,
    below,
    common_base,
    count_text,
    date_text,
    entries_text,
    iso_text,
    moment_text,
    share_text,
    shown,
    size_text,
    specials_texts,
    step_as_json,
    step_text,
    will_text,
)
from frugal_sorter.filesystem.record import Place
from frugal_sorter.planning.misses import Unseen, nearest_misses, unseen
from frugal_sorter.planning.plan import TAKING_BACK, JobName, Plan
from frugal_sorter.planning.selection import Numbers, by_rule, going_along, target_folder, together
from frugal_sorter.reasons import Outcome, Why
from frugal_sorter.rules.model import RuleBook
from frugal_sorter.steps.kinds import ATTENDING, FINAL, KINDS
from frugal_sorter.steps.step import NONE, Count, Mark, NotTouched, Step, Tally, total

if TYPE_CHECKING:
    from frugal_sorter.app.report import Freed


def show_misses(session: Session, screen: Screen, book: RuleBook, plan: Plan) -> None:
    """Print, for each rule that matches nothing at all, what it only just misses."""
    world = session.world(now_ns=plan.made_ns)
    idle = [rule for rule in book.rules if rule.name not in plan.matched]
    for name, misses in nearest_misses(book, idle, world).items():
        screen.line(f"{shown(name)} matches nothing. Closest:", style="warn")
        for miss in misses:
            when = f"; the rule will match it on {moment_text(miss.when_ns)}" if miss.when_ns else ""
            screen.line(f"    {shown(miss.place.name)}: {shown(miss.why)}{when}")


_FOLDERS_NAMED = 3
# At most this many lines are printed of what was done, one for each pair of folders.
_WAYS = 6


# A difference that other programs may have made while a run took its time.
_NOISE_BYTES, _NOISE_SHARE = 1_000_000, 0.1


def freed_texts(freed: Freed, full_ns: int | None, gained: int) -> list[str]:
    """Return lines on what was freed, what is not freed yet, and when the volume is full.

    Args:
        freed: what a run freed.
        full_ns: when the volume is full; None where that cannot be told.
        gained: by how many bytes the volume has more room than before.
    """
    said = []
    if freed.bytes:
        share = share_text(freed.free, freed.total)
        room = f"{size_text(freed.free)} of {size_text(freed.total)} ({share}) are free now"
        if freed.bytes > _NOISE_BYTES and freed.bytes - gained > max(_NOISE_BYTES, _NOISE_SHARE * freed.bytes):
            more = size_text(max(gained, 0))
            said.append(
                f"Removed {size_text(freed.bytes)}{_where(freed.folders)}, but the volume has only {more} more room so far: "
                f"files with other names (hard links), sparse files and snapshots free less than their size, and other programs "
                f"may have written to it. {room}."
            )
        else:
            said.append(f"Freed {size_text(freed.bytes)}{_where(freed.folders)}; {room}.")
    if freed.trashed:
        said.append(
            f"{size_text(freed.trashed)} moved to the trash; the space is freed when the trash is emptied. "
            "To see or empty it: frugal trash"
        )
    if full_ns is not None:
        said.append(f"At this rate the volume will be full on {date_text(full_ns)}.")
    return said


def _where(folders: Sequence[tuple[str, int]]) -> str:
    if len(folders) == 1:
        return f" from {shown(folders[0][0])}"
    base = common_base([folder for folder, _ in folders if folder != "the trash"])
    parts = [f"{below(folder, base)} {size_text(size)}" for folder, size in folders[:_FOLDERS_NAMED]]
    return f" ({', '.join(parts)}{', …' if len(folders) > _FOLDERS_NAMED else ''})"


# How the reason goes on that something is kept for: it differs from one entry to the next.
_UNTIL = ", until "
# Of many groups of names, how many are printed at each end, and how many names of each.
_FEW_GROUPS, _FEW_OF_SEVERAL = 2, 1
# Entries that a plan has nothing to do with: for one of them, and for several.
UNMATCHED = ("does not match the condition", "do not match the condition")
_UNCLAIMED: dict[JobName, tuple[str, str]] = {
    "tidy": ("matches no rule", "match no rule"),
    "sort": UNMATCHED,
    "purge": ("is newer or does not match the condition", "are newer or do not match the condition"),
}


class PlanView:
    """Shows paths as seen from the one folder that all of a plan happens in.

    Args:
        plan: it.
        screen: the terminal.
        numbers: what a person calls its steps by, to take some out; None where none can be.
    """

    def __init__(self, plan: Plan, screen: Screen, numbers: Numbers | None = None) -> None:
        self.plan = plan
        self.screen = screen
        self.numbers = numbers if numbers is not None else Numbers(plan)
        # Piped on, a line is the same whatever is above it.
        self._is_numbered = numbers is not None and screen.is_terminal
        self.change(plan)
        shown_steps = [step for step in plan.asked if step.id not in self._going_along]
        # Places that are made free in a group, by the step that takes what is there away.
        self._making_room = {(step.group, step.source) for step in plan.steps if step.id in self._going_along and step.source}
        # Where a trash is says nothing about where a plan happens.
        folders = {place.folder for step in shown_steps for place in _near_places(step)}
        folders.update(left.place.folder for left in plan.not_touched)
        self.base = common_base(sorted(folders or plan.roots))
        # Any step may have a line at the end, also one that goes along with another and is not listed.
        self._counts_reasons = screen.short and not screen.has_room(len(plan.steps))
        lines = len(shown_steps) + len(plan.not_touched)
        if screen.has_room(lines):
            ways = {tuple(place.folder for place in (step.source, step.target) if place is not None) for step in shown_steps}
            headings = len(ways) + 2 * len({step.rule for step in shown_steps})
            screen.short = not screen.has_room(lines + headings)
        self.unclaimed = _UNCLAIMED.get(plan.kind)
        self._announced: set[str] = set()
        # Many changes are listed by folder, once all are done.
        self._sums_up = screen.short and len(shown_steps) > 2 * FEW + 1
        self._ways: dict[tuple[str, str, str], Count] = {}
        # What was not done as planned, by outcome and reason.
        self._reasons: Counter[tuple[Outcome, str]] = Counter()

    def change(self, plan: Plan) -> None:
        """Show another plan: the same without some of its steps, or with other numbers."""
        self.plan = plan
        self._going_along = going_along(plan)
        self.new_folders = {step.target.path for step in self.plan.steps if step.verb == "make-folder" and step.target}

    def number(self, step: Step) -> str:
        """Return the number of a step, as it is before its line; empty where there is none."""
        return f"{self.numbers.of(step):>{self.numbers.width}}  " if self._is_numbered else ""

    def span(self, steps: Sequence[Step]) -> str:
        """Return the numbers of some steps that follow each other."""
        found = sorted(self.numbers.of(step) for step in steps)
        return f"{found[0]:,}" if len(found) == 1 else f"{found[0]:,}-{found[-1]:,}"

    def show_whole(self, show: Callable[[PlanView], None]) -> None:
        """Show in the pager what a function prints of this view, with every change and its number."""

        def whole() -> None:
            self.screen = Screen(short=False)
            show(self)

        screen, self._announced = self.screen, set()
        try:
            in_pager(whole)
        finally:
            self.screen = screen

    def show(self, names: bool = True) -> None:
        """Print everything that would be done and what would be left; by name, or only by rule."""
        self.screen.parts(("Paths relative to ", ""), (shown(self.base), "bold"))
        for rule, steps in by_rule(self.plan).items():
            if names:
                self.screen.line()
            self.screen.parts((shown(rule), "bold"), (f"  {will_text(steps)}", "dim"))
            if names:
                self.show_names(steps)
        self.show_pruned(names)
        self.show_left()

    def show_pruned(self, names: bool) -> None:
        """Print the folders that are removed because they are empty then; by name, or only how many."""
        pruned = [step for step in self.plan.steps if step.verb == "remove-folder"]
        if pruned and self.plan.kind not in TAKING_BACK:
            self.screen.line()
            self.screen.line(f"Remove {count_text(len(pruned), 'folder')} that this leaves empty", style="bold")
            if names:
                self.screen.sample(pruned, lambda step: self.screen.line(f"    {below(step.place.path, self.base)}"))

    def show_names(self, steps: Sequence[Step], few: int = FEW) -> None:
        """Print the steps of one rule by name, those of a long list only in part: so many at each end."""
        groups = together(step for step in steps if step.id not in self._going_along)
        # Many groups of many names would fill screens, too.
        few = few if len(groups) == 1 else _FEW_OF_SEVERAL
        self.screen.sample(groups, lambda group: self._group(group, few), _FEW_GROUPS, "folder", indent=2, weight=len)

    def _group(self, group: list[Step], few: int) -> None:
        self._heading(group[0])
        self.screen.sample(group, self._name, few)

    def _heading(self, step: Step) -> None:
        source = below(step.place.folder, self.base)
        if step.target is not None and step.target.folder == step.place.folder and step.verb == "move":
            self.screen.line(f"  {source}: renamed")
            return
        kind = KINDS[step.verb]
        assert kind.words is not None
        target = target_folder(step)
        new = target in self.new_folders and target not in self._announced
        self._announced.add(target)
        heading = kind.words.heading.format(source=source, target=below(target, self.base) if target else "")
        style = "bold red" if kind.final else "warn" if kind.removes else "cyan"
        self.screen.parts((f"  {heading}", style), (" (new folder)" if new else "", "dim"))

    def _name(self, step: Step) -> None:
        name = shown(step.place.name) if step.verb != "empty" else step_text(step, self.base)
        number = (f"    {self.number(step)}", "dim")
        if step.verb == "pack":
            members = step.details["members"]
            self.screen.parts(number, (name, ""), (f"  from {count_text(len(members), 'entry', 'entries')}", "dim"))
            self.screen.sample(members, lambda member: self.screen.line(f"      {below(member['path'], self.base)}"), indent=6)
            return
        note = ""
        if step.verb == "set-attribute":
            note = f"{attribute_text(step)}"
        elif step.verb in ("run", "run-making"):
            note = " ".join(map(shown, step.details["command"]))
        elif step.verb == "unpack":
            note = f"into the new folder {shown(step.target.name if step.target else '')}; the archive goes to the trash"
        elif step.witness is not None:
            note = f"the same as {below(step.witness.place.path, self.base)}"
        elif step.verb != "trash" and step.target is not None and step.target.name != step.place.name:
            note = f"as {shown(step.target.name)}"
        if step.group and (step.group, step.target) in self._making_room:
            note += ", replacing the file there, which goes to the trash"
        kind = "/" if step.was is not None and step.was.kind == "folder" else ""
        self.screen.parts(number, (f"{name}{kind}", ""), (f"  {note.lstrip(', ')}" if note else "", "warn"))

    def show_left(self) -> None:
        """Print what is left as it is and why, what was refused, and what could not be read."""
        plan = self.plan
        quiet = []
        if plan.at_home.entries:
            quiet.append(f"  {entries_text(plan.at_home)} need{'s' if plan.at_home.entries == 1 else ''} no change")
        if plan.kept.entries:
            quiet.append(f"  {entries_text(plan.kept)} left alone by a `leave` rule")
        if plan.aside.entries:
            quiet.append(f"  {entries_text(plan.aside)} outside --rule or --only")
        if self.unclaimed is not None and plan.unclaimed.entries:
            one, several = self.unclaimed
            quiet.append(f"  {entries_text(plan.unclaimed)} {one if plan.unclaimed.entries == 1 else several}")
        if specials := ", ".join(specials_texts(plan.links, plan.specials)):
            quiet[-1:] = [f"{quiet[-1]}; {specials}: never touched" if quiet else f"  {specials}: never touched"]
        if plan.not_touched or quiet:
            self.screen.line()
            self.screen.line("Left alone", style="bold")
        for line in quiet:
            self.screen.line(line)
        by_reason: dict[tuple[str, bool], list[NotTouched]] = {}
        for left in plan.not_touched:
            by_reason.setdefault((left.reason.partition(_UNTIL)[0], left.reason.problem), []).append(left)
        for (reason, problem), lefts in by_reason.items():
            self._left_for(reason, problem, lefts)
        if plan.notes or plan.refused:
            self.screen.line()
        for note in plan.notes:
            self.screen.line(f"Note: {shown(note.text)}", style="warn" if note.problem else "")
        for refusal in plan.refused:
            self.screen.line(f"Refused: {shown(str(refusal))}", style="refused")

    def _left_for(self, reason: str, problem: bool, lefts: list[NotTouched]) -> None:
        """Print the entries that are left for one reason."""
        count = entries_text(total(left.counted for left in lefts))
        self.screen.line(f"  {count}: {shown(reason)}", style="warn" if problem else "")

        def show(left: NotTouched) -> None:
            rule = f"  ({shown(left.rule)})" if left.rule and len(self.plan.rules) != 1 else ""
            until = "".join(left.reason.partition(_UNTIL)[1:])
            self.screen.line(f"    {below(left.place.path, self.base)}{until}{rule}")

        self.screen.sample(lefts, show)

    def show_nothing(self, what: str, hidden: bool, levels: str, unhide: str) -> None:
        """Print that there is nothing to do, and why.

        Args:
            what: in words, such as `Nothing to sort`.
            hidden: hidden files were looked at.
            levels: what to write to look into all subfolders.
            unhide: what to write to look at hidden files.
        """
        self.show_left()
        plan = self.plan
        if plan.refused:
            self.screen.line(f"{what}: refused, for the reason above.")
            return
        self.screen.line(f"{what}: checked {entries_text(plan.seen)}.")
        found = unseen(plan.levels, hidden)
        more = "At least " if found.more else ""
        self.show_deeper(levels, found)
        if found.hidden:
            self.screen.line(f"{more}{count_text(found.hidden, 'hidden file')} not checked; to include hidden files: `{unhide}`.")

    def show_deeper(self, levels: str, found: Unseen | None = None) -> None:
        """Print how many files are too deep to be looked at, if any."""
        found = found if found is not None else unseen(self.plan.levels, True)
        if found.deeper:
            more = "At least " if found.more else ""
            self.screen.line(
                f"{more}{count_text(found.deeper, 'file')} in subfolders not checked; to include subfolders: `{levels}`."
            )

    def totals(self) -> str:
        """Return in one line how much would be done."""
        return f"{will_text(self.plan.asked)}{self._new()}"

    def question(self, rest: str) -> str:
        """Return what would be done, a line for each kind, and then the question itself."""
        parts = will_text(self.plan.asked).split("; ")
        first = f"{parts[0][:1].upper()}{parts[0][1:]}{self._new()}"
        others = [f"{part[:1].upper()}{part[1:]}" for part in parts[1:]]
        return "\n".join([first, *others, rest])

    def _new(self) -> str:
        return f", creating {count_text(len(self.new_folders), 'new folder')}" if self.new_folders else ""

    def warn(self) -> None:
        """Print what a person should know before saying yes."""
        verbs = {step.verb for step in self.plan.asked}
        if verbs & FINAL:
            self.screen.line("Permanent deletion cannot be undone.", style="bold red")
        if "run" in verbs:
            self.screen.line("frugal cannot undo what the programs do.", style="bold red")
        elif "run-making" in verbs:
            self.screen.line("frugal can undo only the files listed here, not anything else the programs do.", style="warn")
        if "trash" in verbs and self.plan.kind not in TAKING_BACK:
            self.screen.line("Moving files to the trash frees no space until the trash is emptied.", style="dim")

    def show_step(self, step: Step, mark: Mark) -> None:
        """Print one line for a step that was carried out, or was not."""
        done = mark.outcome == Outcome.DONE
        told = step.verb == "remove-folder" and self.plan.kind not in TAKING_BACK
        if step.verb in ATTENDING and ((done and not told) or step.verb in ("note-times", "restore-times")):
            return
        if step.verb == "make-folder" and mark.outcome != Outcome.FAILED:
            return
        if step.verb == "remove-folder" and mark.outcome == Outcome.NOT_RUN and mark.why is Why.ALREADY_REMOVED:
            return
        word = "removed" if done and told else _OUTCOMES[mark.outcome][0]
        words = KINDS[step.verb].words
        if done and words is not None:
            word = words.done
        if done and not mark.reason and self._sums_up:
            target = target_folder(step)
            way = word, step.place.folder, target if target != step.place.folder else ""
            self._ways[way] = self._ways.get(way, NONE) + step.count
            return
        why = f": {shown(mark.reason)}" if mark.reason else ""
        self._reasons[mark.outcome, why] += 1
        if self._counts_reasons and self._reasons[mark.outcome, why] > _WAYS:
            return
        self.screen.parts((f"{word:9}", _OUTCOMES[mark.outcome][1]), (f"{step_text(step, self.base)}{why}", ""))

    def show_sums(self, run: int) -> None:
        """Print by folder how much was done in a run, and by reason how much was not, where not each has a line of its own."""
        if self._counts_reasons:
            for (outcome, why), count in self._reasons.items():
                if count > _WAYS:
                    word, style = _OUTCOMES[outcome]
                    self.screen.parts((f"{word:9}", style), (f"… {count - _WAYS:,} more{why}", ""))
        ways = [(count.entries, entries_text(count), way) for way, count in self._ways.items()]
        ways.sort(key=lambda one: -one[0])
        width = max((len(amount) for _, amount, _ in ways), default=0)

        def show(one: tuple[int, str, tuple[str, str, str]]) -> None:
            _, amount, (word, source, target) = one
            arrow = f" → {below(target, self.base)}" if target else ""
            self.screen.parts((f"{word:9}", "green"), (f"{amount:<{width}}  {below(source, self.base)}{arrow}", ""))

        for one in ways[:_WAYS] if len(ways) > _WAYS + 1 else ways:
            show(one)
        if len(ways) > _WAYS + 1:
            self.screen.line(f"… {len(ways) - _WAYS:,} more folders (frugal history {run} lists every change)", style="dim")
        self._ways.clear()
        self._reasons.clear()


def _near_places(step: Step) -> list[Place]:
    sides = (None if step.verb == "empty" else step.source, None if step.verb == "trash" else step.target)
    if step.verb == "restore":
        sides = (None, step.target)
    return [place for place in sides if place is not None]


_OUTCOMES = {
    Outcome.DONE: ("done", "green"),
    Outcome.SKIPPED: ("skipped", "warn"),
    Outcome.FAILED: ("failed", "bold red"),
    Outcome.OPEN: ("unclear", "bold red"),
    Outcome.NOT_RUN: ("left", ""),
    Outcome.NOTED: ("unclear", "bold red"),
}


def exit_code(plan: Plan, problem: bool = False) -> int:
    """Return the exit code of a plan that was shown or carried out."""
    if plan.refused:
        return 3
    return 1 if problem or plan.has_problem else 0


def plan_as_json(plan: Plan, numbers: Numbers) -> Mapping[str, Any]:
    """Return a plan as one object of JSON values; docs/formats.md describes it."""
    return {
        "command": plan.kind,
        "rules": plan.origin,
        "made": iso_text(plan.made_ns),
        "folders": plan.roots,
        "steps": [{"number": numbers.of(step) or None, **step_as_json(step)} for step in plan.steps],
        "left": [
            {
                "path": left.place.path,
                "rule": left.rule,
                "reason": left.reason,
                "code": left.reason.code,
                "problem": left.reason.problem,
            }
            for left in plan.not_touched
        ],
        "notes": [note._asdict() for note in plan.notes],
        "refused": [{**refusal._asdict(), "code": refusal.reason.code} for refusal in plan.refused],
        "totals": {
            "looked_at": plan.seen._asdict(),
            "entries": plan.entries._asdict(),
            "bytes": Tally(plan.asked).bytes,
            "links": plan.links,
            "others": plan.specials,
            "at_home": plan.at_home._asdict(),
            "kept": plan.kept._asdict(),
            "left": total(left.counted for left in plan.not_touched)._asdict(),
        },
    }
