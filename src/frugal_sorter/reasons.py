"""Why something is not done: each reason once, with its code, its text, and whether a person should know of it."""

from __future__ import annotations

import errno
from enum import Enum, IntEnum
from typing import Literal


class Outcome(IntEnum):
    """How a step ended.

    NOT_RUN is as designed, such as for a file that is in use. OPEN is not known yet: a kill left it undecided, or an
    entry is set aside and waits for the recovery to be put back. NOTED is not an end: it is what a verb wrote down before
    a point of no return.
    """

    DONE = 1
    SKIPPED = 2
    FAILED = 3
    OPEN = 4
    NOT_RUN = 5
    NOTED = 6


# How a step ends that a person should know of.
PROBLEMS = (Outcome.SKIPPED, Outcome.FAILED, Outcome.OPEN)
Kind = Literal["by design", "waiting", "skipped", "failed", "open"]
_OUTCOMES: dict[Kind, Outcome] = {
    "by design": Outcome.NOT_RUN,
    "waiting": Outcome.NOT_RUN,
    "skipped": Outcome.SKIPPED,
    "failed": Outcome.FAILED,
    "open": Outcome.OPEN,
}


class Reason(str):
    """Why an entry is left alone, or a step was not done: a text that knows its code.

    Args:
        text: in words.
        why: the row that it was made from; None for what an older version wrote down.
        kind: what it means for a person: "by design" and "waiting" are no problem, and what waits passes on its own.
    """

    __slots__ = ("kind", "why")
    why: Why | None
    kind: Kind

    def __new__(cls, text: str, why: Why | None, kind: Kind) -> Reason:
        """Return a text with its row."""
        made = super().__new__(cls, text)
        made.why, made.kind = why, kind
        return made

    def __reduce__(self) -> tuple[type[Reason], tuple[str, Why | None, Kind]]:
        return Reason, (str(self), self.why, self.kind)

    @property
    def code(self) -> str:
        """The stable name of the reason, as JSON, the history and the docs have it; empty for an older record."""
        return self.why.code if self.why is not None else ""

    @property
    def problem(self) -> bool:
        """Whether a person should know."""
        return self.kind not in ("by design", "waiting")

    @property
    def outcome(self) -> Outcome:
        """How a step ends for this reason."""
        return _OUTCOMES[self.kind]

    @property
    def by_design(self) -> Reason:
        """The same reason where it is not a problem."""
        return Reason(self, self.why, "by design")

    def reworded(self, text: str, kind: Kind | None = None) -> Reason:
        """Return the same reason in other words, such as with the path that it is about."""
        return Reason(text, self.why, kind or self.kind)


class Why(Enum):
    """Every reason: what it means for a person, and its text with a place for each fact. Called, it returns a `Reason`."""

    kind: Kind
    text: str
    about: str

    def __new__(cls, kind: Kind, text: str, about: str = "") -> Why:
        """Return a member; what it is about is for the docs, where the text has no words of its own."""
        made = object.__new__(cls)
        # Each is one of its own, also where another one has the same text.
        made._value_ = len(cls.__members__)
        made.kind, made.text, made.about = kind, text, about
        return made

    # Chosen by rules, options and answers.
    AT_HOME = "by design", "it is already where this rule puts it"
    APPROVED_TO_STAY = "by design", "stays, as answered by {}"
    LEFT_OUT = "by design", "left out by --without"
    STRUCK_OUT = "by design", "taken out in the editor"
    DECLINED = "by design", "declined"
    NOBODY_TO_ASK = "by design", "this rule has `ask = true`, and there is no terminal to ask on"
    REFUSED_BELOW = "by design", "refused, see below"
    KEPT_BY_RULE = "by design", 'kept by "{}"{}'
    KEPT_AS_NEWEST = "by design", "one of the newest {}, which are kept"
    ENOUGH_IS_FREE = "by design", "{:,} bytes are free without it"
    UNDONE = "by design", "undone by run {}; to include it: --again"
    RESTORED = "by design", "restored from the trash since run {}; to include it: --again"
    MOVED_BACK = "by design", "moved back by hand since run {}; to include it: --again"
    OFF_DUTY = "by design", "outside the rule's `during` hours"
    NAME_EXISTS = "by design", "{} already exists"
    EXISTING_IS_NEWER = "by design", "{} there is newer"
    RECEIVES_FILES = "by design", "other changes in the plan put files into it"
    MAKES_ROOM = "by design", "another rule acts on the file that is already at its target"
    DOUBTFUL = "by design", "{}", "why it may belong to another program"
    VERSION_CONTROL = "by design", "{} is under version control, and frugal does not change it"
    VERSION_CONTROL_INSIDE = "by design", "it contains a version-controlled tree, which frugal does not change"
    OTHER_HARD_LINKS = "by design", "it has other hard links, so removing this one frees no space"
    OTHER_VOLUME_THAN_KEPT = "by design", "not on the same volume as the copy to keep"
    OTHER_OWNER_THAN_KEPT = (
        "by design",
        "different owner or permissions from the copy to keep (use --across-owners to include it)",
    )
    DUPLICATE_STAYS = "by design", "{}", "which rule or option keeps this copy"
    CIRCLE = "failed", "moved {} times within 10 minutes: the rules move it in a circle"
    CLOCK_DOUBTED = (
        "failed",
        "{}; nothing is deleted by age until the time is confirmed: by a run on another day, or by you (without --yes)",
    )
    # What passes on its own.
    FRESH = "waiting", "changed too recently"
    OPEN = "waiting", "open in {}"
    OPEN_FOR_WRITING = "waiting", "open for writing in {}"
    BEING_WRITTEN = "waiting", "being written by {}"
    WRITTEN_DURING_RUN = "waiting", "a program started writing to it"
    WRITTEN_WHILE_COMPARED = "waiting", "one of the two was written to while they were compared"
    PARTIAL_DOWNLOAD = "waiting", "a download that is not complete"
    DOWNLOAD_BESIDE = "waiting", "its download is not complete: {} is beside it"
    STOPPED = "waiting", "the run was stopped before it was done"
    # What a plan cannot do with an entry.
    NO_VALUE = "failed", "it has no value for {{{}}}{}"
    UNKNOWN = "failed", "`{}` is unknown: {}"
    UNKNOWN_SO_KEPT = "failed", "kept, because `{}` is unknown"
    UNKNOWN_INSIDE = "failed", "{}", "what inside the folder cannot be read"
    INTO_ITSELF = "failed", "a folder cannot be moved into itself"
    TARGET_AWAY = "failed", "the target {}"
    TARGET_UNUSABLE = "failed", "{}", "why nothing can go to the target folder"
    ILLEGAL_NAME = "failed", "{}", "what the volume of the target cannot hold"
    NOT_BELOW_ITS_FOLDER = "failed", "{!r} is not a path below its folder"
    TAGS_UNREADABLE = "failed", "its tags and comment cannot be read: {}"
    EXISTING_STAYS = "by design", "{}", "why what is at the target is not replaced"
    GUARDED = "failed", "{}", "which protected place it is"
    CHANGED_WHILE_READ = "failed", "changed while the folder was read"
    CHANGED_DURING_READ = "failed", "changed while it was read"
    CHANGED_SINCE_READ = "failed", "changed since it was read"
    READ_ONLY = "failed", "read-only file system ({})"
    CANNOT_WRITE = "failed", "no permission ({})"
    CANNOT_COME_BACK = "failed", "{}", "why it cannot be restored"
    OTHER_FILE_AT = "failed", "another file is now at {}"
    IN_THE_WAY = "failed", "another file is already at {}"
    # Why a rule is not carried out at all.
    TOO_MANY_REMOVALS = "failed", "it would remove {:,} {}, but the limit is {:,}; to allow this, use {}--at-most {}"
    TOO_MANY = "failed", "it would act on {:,} files and folders, but `at_most` allows {:,}; raise `at_most` to allow this"
    NO_ROOM = "failed", "the plan needs {:,} bytes on the volume at {}, but only {:,} are free"
    # What a step finds when its turn comes.
    CHANGED = "skipped", "changed since the plan was made"
    GONE = "skipped", "no longer there"
    CONTENTS_CHANGED = "skipped", "its contents have changed"
    CHANGED_WHILE_COPIED = "skipped", "it changed while it was copied"
    WITNESS_CHANGED = "skipped", "{} has changed"
    WITNESS_UNREADABLE = "skipped", "{} cannot be compared: {}"
    WITNESS_NO_FILE = "skipped", "the copy to keep is no longer a file"
    ONLY_COPY = "skipped", "both names are the same file, and removing it would lose the only copy"
    LEADS_ELSEWHERE = "skipped", "{} inside now leads elsewhere"
    GONE_INSIDE = "skipped", "{} inside it no longer exists"
    NAME_TAKEN = "skipped", "the name {} was taken in the meantime"
    NAME_TAKEN_IN_TRASH = "skipped", "the name {} in the trash was taken in the meantime"
    FILE_EXISTS = "skipped", "the file already exists"
    OTHER_FOLDER_THERE = "skipped", "another folder is there now"
    FOLDER_REPLACED = "by design", "another folder is there now"
    FOLDER_IN_USE = "by design", "not empty, so it stays"
    ALREADY_REMOVED = "by design", "already removed"
    ALREADY_THERE = "by design", "there already"
    UNUSED = "by design", "removed again, because nothing was put in it"
    COPY_EDITED = "skipped", "the copy was edited"
    ONLY_IN_ZIP = "skipped", "{} is now only in the zip, so it is kept"
    DIFFERS_FROM_ARCHIVE = "skipped", "{} differs from what is in the archive"
    MORE_THAN_ARCHIVE = "skipped", "more is in the folder than in the archive; it stays"
    SOURCE_GONE = "skipped", "it stays, since what it was made of is not there to compare it with ({})"
    RELATED_NOT_DONE = "skipped", "not done, because a related change was not made"
    RELATED_UNDONE = "skipped", "undone, because a related change was not made"
    NOT_UNDONE = "failed", "could not be undone: {}"
    INTERRUPTED = "skipped", "interrupted before it was done"
    # What the system, or another program, does not let happen.
    NO_PERMISSION = "failed", "no permission"
    NOT_FOUND = "failed", "not found"
    REPLACED_BY_LINK = "failed", "replaced by a link"
    NO_FOLDER = "failed", "no longer a folder"
    PATH_TOO_LONG = "failed", "path too long"
    VOLUME_MOUNTED_THERE = "failed", "another volume is mounted there"
    MOVED_WHILE_READ = "failed", "moved while it was being read"
    SYSTEM = "failed", "{}", "the error of the system"
    NO_RIGHT_TO_REMOVE = "failed", "this account has no permission to remove files from {}"
    NO_TARGET_FOLDER = "failed", "the target folder does not exist"
    OTHER_VOLUME = "failed", "the target is now on another volume"
    LOWER_LAYER = "failed", "this volume cannot rename the folder, which is in a lower layer of an overlay"
    CANNOT_ASK_WRITER = "failed", "cannot check whether a program is writing to it: {}"
    REPLACED = "failed", "{} was replaced by another program"
    REMOVED_AT_ONCE = "failed", "moved, but another program removed it immediately"
    REMOVED_DURING_MOVE = "failed", "another program removed it during the move; the copy remains at {}"
    BOTH_KEPT = "failed", "{}; both are kept, the copy at {}"
    WRONG_ONE_MOVED = "failed", "a different file had taken its place; it was moved to {} and could not be moved back: {}"
    NAMED_OTHERWISE = "failed", "{}", "under which name it is now"
    PARTLY_REMOVED = "failed", "only partly removed: {}"
    NO_KIND_OF_ENTRY = "failed", "{} is neither file, folder nor link"
    NO_TRASH_OF_ACCOUNT = "failed", "{} is not a trash folder of this account"
    ARCHIVE_UNREADABLE = "failed", "the archive cannot be read ({})"
    ARCHIVE_REFUSED = "failed", "archive refused: {}"
    ARCHIVE_TOO_LARGE = "failed", "{}, or the volume is full"
    ZIP_NOT_AS_WRITTEN = "failed", "the zip did not come out as it was written"
    ZIP_MEMBER_DIFFERS = "failed", "{} did not come out of the zip as it went in"
    PROGRAM_FAILED = "failed", "{}", "which program failed, and how"
    PROGRAM_MADE_NOTHING = "failed", "{} succeeded, but did not create {}"
    # What an undo finds.
    DELETED = "failed", "deleted permanently"
    DELETED_SINCE = "failed", "permanently deleted{} by run {}"
    MOVED_AGAIN = "failed", "run {} moved it again{}; undo that run first"
    GONE_FROM_TRASH = "failed", "no longer in the trash; another program removed it"
    OTHER_FILE_THERE = "failed", "another file is there now"
    EDITED = "failed", "edited since it was created, so it stays"
    SOURCE_MOVED_ON = "failed", "what it was made of was moved on by run {}; undo that one first"
    ONLY_COPY_LEFT = "failed", "it stays because it is the only copy left: {}"
    TAGS_CHANGED = "failed", "its tags or comment were changed since"
    VOLUME_AWAY = "failed", "the volume at {} is not mounted"
    RELATED_NOT_UNDONE = "failed", "a related change cannot be undone"
    NOTHING_TO_UNDO = "by design", "it was undone already"
    # What is not known after a crash, or not put right yet.
    SET_ASIDE = "open", "set aside as {}"
    STILL_ASIDE = "open", "{}", "under which private name it is, and why"
    NOT_RENAMED_BACK = "open", "temporarily renamed to {}, and could not be renamed back: {}"
    LEFT_BEHIND = "open", "{}; {} stays until the next command that changes files"
    CANNOT_PUT_RIGHT = "open", "{} could not be put right and is left as it is"
    DAMAGED_RECORD = "open", "what was written down of it is damaged ({})"
    CANNOT_LOOK = "open", "{}", "why it cannot be looked at"
    HALF_DONE = "open", "half done"
    CHANGED_WHILE_CHECKED = "open", "changed while it was being checked"
    AT_NEITHER_PLACE = "open", "found neither at its old nor at its new location"
    ORIGINAL_THERE = "open", "copied, but the original has not been removed yet"
    BOTH_THERE = "open", "copied to {}, and the original was kept too: {}{}"
    LINK_LOST = "open", "neither the file nor a link to the other one is there"
    COPY_LOST = "open", "neither the link nor the file made of it is there"
    MADE_AS = "open", "made as {}"
    REMOVED_IN_PART = "open", "removed in part, the rest is {}: {}"
    NO_FOLDER_THERE = "open", "its folder does not exist"
    PROGRAM_UNKNOWN = "open", "{} was started; its result is unknown"
    PART_LEFT = "open", "{}", "which unfinished part was left"
    # What is not read.
    PRIVATE = ("failed", "macOS shows it only to programs that you allow: System Settings, Privacy & Security, Full Disk Access")
    ON_OTHER_VOLUME = "by design", "on another volume; not included"
    HIDDEN_ATTRIBUTE = "by design", "has the hidden attribute; not included (`frugal inventory --hidden` includes it)"
    FUTURE_DATE = "failed", "skipped: its date is in the future"
    NO_REPORT = "failed", "not a report that this version can read"
    DAMAGED_INVENTORY = "failed", "a damaged inventory; remove it"
    UNREADABLE = "failed", "{}", "why it cannot be read"

    @property
    def code(self) -> str:
        """Its stable name, such as `name-taken`."""
        return self.name.lower().replace("_", "-")

    def __call__(self, *facts: object, kind: Kind | None = None) -> Reason:
        """Return the reason in words.

        Args:
            facts: what the text has places for.
            kind: what it means here, where that differs.
        """
        return Reason(self.text.format(*facts), self, kind or self.kind)


_BY_CODE = {why.code: why for why in Why}


def reason_of_record(text: str, code: str, outcome: Outcome) -> Reason:
    """Return a reason that was written down; one of an older version has no code, and one of a newer keeps its text."""
    kind: Kind = next((kind for kind, one in _OUTCOMES.items() if one == outcome), "by design")
    return Reason(text, _BY_CODE.get(code), kind)


_OF_ERRORS = {
    errno.EACCES: Why.NO_PERMISSION,
    errno.EPERM: Why.NO_PERMISSION,
    errno.ENOENT: Why.NOT_FOUND,
    errno.ELOOP: Why.REPLACED_BY_LINK,
    errno.ENOTDIR: Why.NO_FOLDER,
    errno.ENAMETOOLONG: Why.PATH_TOO_LONG,
    errno.EXDEV: Why.VOLUME_MOUNTED_THERE,
    errno.ESTALE: Why.MOVED_WHILE_READ,
}


def reason_of(error: OSError) -> Reason:
    """Return in a few plain words why the system did not do something."""
    why = _OF_ERRORS.get(error.errno or 0)
    return why() if why is not None else Why.SYSTEM((error.strerror or "cannot be read").lower())


class NotDone(Exception):
    """Something was not done to an entry; nothing of it is left on the disk, unless its outcome is OPEN."""

    def __init__(self, reason: Reason) -> None:
        super().__init__(reason)
        self.reason = reason

    @property
    def outcome(self) -> Outcome:
        """How its step ends."""
        return self.reason.outcome


def why_not(failed: NotDone | OSError) -> Reason:
    """Return why something was not done, whichever error said so."""
    return failed.reason if isinstance(failed, NotDone) else reason_of(failed)
