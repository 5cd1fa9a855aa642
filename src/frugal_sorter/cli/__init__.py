"""Arguments and text: the only package that prints, asks, or knows a terminal."""

# Each is a module of `commands`, imported only when it is used.
COMMANDS = {
    "inventory": "count what is in a folder, by type, extension, folder, age, owner or size; list programs with open files",
    "compare": "compare two inventories: what is new, gone, changed or moved",
    "forecast": "estimate how fast a folder grows and when its volume will be full",
    "suggest": "draft a rule file from the files in a folder",
    "check": "check a rule file for errors and warnings, and run its examples",
    "preview": "show what the rules would do, without changing anything",
    "rules": "list the rules in a file with what each one does and has done; switch rules on or off, reorder them, add one",
    "explain": "show why a rule matches a file, why it does not, or when it will",
    "tidy": "apply the rules: list the changes, ask, make them, report",
    "sort": "sort a folder into subfolders by type, name or date, without a rule file",
    "purge": "remove files older than a given age, without a rule file",
    "gather": "copy or move the files named in a list",
    "duplicates": "find files with the same contents, and files that only look like copies by name",
    "leftovers": "find the settings, caches and data that an uninstalled program left behind",
    "history": "list all runs, or the changes that one run made",
    "verify": "check that everything is where a run put it, unchanged",
    "report": "write one page for the owner of the machine: what was done, what it freed, what can be restored",
    "undo": "undo a run",
    "trash": "list the trash, restore from it, or delete part of it permanently",
    "watch": "apply the rules to new files as they arrive",
    "schedule": "set up and check jobs that run automatically",
    "help": "show reference pages: conditions, placeholders, rules, types, fields, exit codes, commands",
    "completion": "print a shell completion script",
    "demo": "create sample data to try every command on",
}

# These change files, so that each call of one is recorded, whoever makes it.
CHANGING = frozenset({"tidy", "sort", "purge", "gather", "duplicates", "undo", "trash", "rules", "leftovers"})

# Commands that no person types.
UNLISTED = {"words": "what a shell completes by", "visit": "run the command of a schedule and record the result (for schedulers)"}
