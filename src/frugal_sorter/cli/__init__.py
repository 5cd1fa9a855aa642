"""Arguments and text: the only package that prints, asks, or knows a terminal."""

# Each is a module of `commands`, imported only when it is used.
COMMANDS = {
    "inventory": "what is in a folder, by type, extension, folder, age, owner or size; who has it open",
    "compare": "two inventories: what is new, gone, changed or moved",
    "forecast": "how fast a folder grows, and when its volume is full",
    "suggest": "a rule file to start from, made from what lies in a folder",
    "check": "mistakes in a rule file, warnings, and its examples",
    "preview": "what the rules would do; changes nothing",
    "rules": "every rule of a file, what it does and did; switch one off, move or add one",
    "explain": "why a rule matches a file, why not, and when it will",
    "tidy": "do it: list, ask, do, report",
    "sort": "sort a folder into subfolders by type, name or date, without a rule file",
    "purge": "take away what is older than an age, without a rule file",
    "gather": "copy or move the files that a list names",
    "duplicates": "files with the same contents, and names that only look like copies",
    "leftovers": "what a program that is gone left behind: settings, caches, data",
    "history": "what was done: all runs, or the steps of one",
    "report": "one page for the owner of the machine: what was done, what it freed, what can come back",
    "undo": "take a run back",
    "trash": "what lies in the trash; bring something back, or empty some of it",
    "watch": "act on what comes into the folders of a rule file",
    "schedule": "what runs by itself, and whether all is well with it",
    "help": "the reference: conditions, placeholders, rules, types, fields, exit codes, and each command",
    "completion": "a script that lets a shell complete commands, options and names",
    "demo": "a made-up front-desk computer to try everything on",
}

# These change files, so that each call of one is recorded, whoever makes it.
CHANGING = frozenset({"tidy", "sort", "purge", "gather", "duplicates", "undo", "trash", "rules", "leftovers"})

# What no person types.
UNLISTED = {
    "words": "what a shell completes by",
    "visit": "what a scheduler starts: a command of a schedule, with a record of it",
}
