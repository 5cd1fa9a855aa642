#!/usr/bin/python
"""Folder rules on a machine: a task of Ansible; what it does there is done by `frugal_sorter.api`."""

from __future__ import annotations

import json
import os
import sys
from collections import Counter

from ansible.module_utils.basic import AnsibleModule

DOCUMENTATION = r"""
module: frugal_rules
short_description: Apply, check or schedule folder rules
description:
  - Writes a rule file and applies it, checks it, or has it applied automatically. Check mode is the preview and changes nothing.
  - The task fails if a rule is refused or something is wrong, with the codes of the reasons; then nothing is moved or removed.
options:
  path:
    description: The rule file on the machine.
    type: path
    required: true
  rules:
    description: Its text. Without it the file must be there.
    type: str
  state:
    description:
      - V(tidied) applies the rules now; V(checked) only reads them; V(scheduled) also has them applied at O(when);
        V(absent) removes the schedule and the file.
      - V(undone) undoes the run O(run).
    type: str
    choices: [tidied, checked, scheduled, absent, undone]
    default: tidied
  at_most:
    description: How many files each rule may remove.
    type: int
  when:
    description: When a schedule runs, such as C(daily 02:00).
    type: str
  name:
    description: The name of the schedule.
    type: str
    default: nightly
  run:
    description: The run to undo.
    type: int
author: The Frugal Sorter authors
"""
EXAMPLES = r"""
- name: See what would happen
  frugal.sorter.frugal_rules:
    path: ~/front-desk.toml
    rules: "{{ lookup('file', 'front-desk.toml') }}"
  check_mode: true
  diff: true

- name: Tidy every night
  frugal.sorter.frugal_rules:
    path: ~/front-desk.toml
    state: scheduled
    when: daily 02:00
"""
RETURN = r"""
run:
  description: The number of the run, for C(undone); 0 where nothing was to be done.
  type: int
  returned: tidied
changes:
  description: How many changes were made, or would be.
  type: int
  returned: tidied
codes:
  description: The codes of the reasons why entries were left alone or rules refused, each with how often.
  type: dict
  returned: tidied
"""


def _written(module, path):
    """Write the rule file if its text is another one, and return whether it is, and its text before and after."""
    before = ""
    if os.path.exists(path):
        with open(path, encoding="utf-8") as file:
            before = file.read()
    after = module.params["rules"] if module.params["rules"] is not None else before
    if after != before and not module.check_mode:
        os.makedirs(os.path.dirname(path) or ".", exist_ok=True)
        temporary = f"{path}.frugal-new"
        with open(temporary, "w", encoding="utf-8") as file:
            file.write(after)
        os.replace(temporary, path)
    return after != before, before, after


def _frugal(module, *words, is_new=False):
    """Return what `frugal schedule` prints; the task ends where it fails."""
    code, out, err = module.run_command([sys.executable, "-m", "frugal_sorter", "schedule", *words])
    # A list ends with 1 where a schedule is in trouble.
    if code > (1 if words[0] == "list" else 0):
        module.fail_json(msg=err.strip() or out.strip(), changed=is_new)
    return out


def _tree(changes, at):
    """Return the paths of a plan before it (0) or after it (1), a line each, as a diff wants them."""
    paths = sorted(path for path in ((one.source, one.target)[at] for one in changes) if path)
    return "".join(f"{path}\n" for path in paths)


def _tidied(module, api, path, text, is_new):
    planned = api.plan(api.load_rules(path, text), at_most=module.params["at_most"])
    codes = Counter(one.code for one in (*planned.left, *planned.refused))
    result = {"changes": len(planned.changes), "codes": dict(codes), "run": 0}
    if module._diff:
        result["diff"] = [{"before": _tree(planned.changes, 0), "after": _tree(planned.changes, 1), "before_header": path}]
    if planned.refused or planned.problems:
        reasons = [f"{one.rule}: {one.reason}" for one in planned.refused] + list(planned.problems)
        module.fail_json(msg="; ".join(reasons), changed=is_new and not module.check_mode, **result)
    if not module.check_mode:
        done = api.carry_out(planned)
        codes += Counter(one.code for one in done.not_done)
        result |= {"run": done.run, "changes": sum(done.changed.values()), "codes": dict(codes)}
        if not done.ok:
            failed = [f"{one.path}: {one.reason}" for one in done.not_done if one.problem][:5]
            module.fail_json(msg="; ".join(failed) or "see `frugal history`", changed=bool(done.run), **result)
    module.exit_json(changed=is_new or bool(result["changes"]), **result)


def _schedule(module):
    """Return the schedule of that name as it is listed; None where there is none."""
    listed = _frugal(module, "list", "--format", "json")
    return next((one for one in json.loads(listed)["schedules"] if one["name"] == module.params["name"]), None)


def _scheduled(module, path, is_new):
    name, when = module.params["name"], module.params["when"]
    known, wanted = _schedule(module), ["tidy", path, "--yes"]
    is_set = known is not None and known["at"] == when and list(known["command"]) == wanted
    if not is_set and not module.check_mode:
        if known is not None:
            # A mistake in `when` must not cost the schedule that is there.
            _frugal(module, "add", name, "--at", when, "--print", "--", *wanted, is_new=is_new)
            _frugal(module, "remove", name, "--yes", is_new=is_new)
        _frugal(module, "add", name, "--at", when, "--yes", "--", *wanted, is_new=is_new)
    module.exit_json(changed=is_new or not is_set)


def _absent(module, path):
    is_known, is_there = _schedule(module) is not None, os.path.exists(path)
    if not module.check_mode:
        if is_known:
            _frugal(module, "remove", module.params["name"], "--yes")
        if is_there:
            os.remove(path)
    module.exit_json(changed=is_known or is_there)


def main():
    module = AnsibleModule(
        argument_spec={
            "path": {"type": "path", "required": True}, "rules": {"type": "str"},
            "state": {"type": "str", "default": "tidied", "choices": ["tidied", "checked", "scheduled", "absent", "undone"]},
            "at_most": {"type": "int"}, "when": {"type": "str"}, "name": {"type": "str", "default": "nightly"},
            "run": {"type": "int"},
        },
        required_if=[("state", "scheduled", ["when"]), ("state", "undone", ["run"])],
        supports_check_mode=True,
    )  # fmt: skip
    try:
        from frugal_sorter import api
    except ImportError:
        module.fail_json(
            msg=f"{sys.executable} has no frugal_sorter; use the role frugal.sorter.workstation, or set the interpreter"
        )
    path, state = module.params["path"], module.params["state"]
    try:
        if state == "absent":
            _absent(module, path)
        if state == "undone":
            if module.check_mode:
                module.exit_json(changed=True)
            done = api.undo(module.params["run"])
            module.exit_json(changed=bool(done.run), run=done.run, codes=dict(Counter(one.code for one in done.not_done)))
        # A mistake in the rules leaves the file that is there.
        api.load_rules(path, module.params["rules"])
        is_new, before, after = _written(module, path)
        if state == "tidied":
            _tidied(module, api, path, after, is_new)
        if state == "scheduled":
            _scheduled(module, path, is_new)
        module.exit_json(changed=is_new, diff={"before": before, "after": after})
    except api.Error as error:
        module.fail_json(msg=error.text)


if __name__ == "__main__":
    main()
