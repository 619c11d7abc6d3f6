"""Adds rules to ``site.toml`` and takes them out: which events go to which channels."""

from __future__ import annotations

from dataclasses import dataclass

from scopion.alerts.alert_settings import RuleSettings
from scopion.model.errors import NotFound, UsageError
from scopion.operations.notify.set_channels import block_of, change_settings
from scopion.operations.site.edit_settings import with_block_before, with_settings, without_block
from scopion.operations.site.open_site import Site

# Without any rule every channel is told; with one, only what rules fit. This one goes last then, and changes nothing.
_REST = block_of("rule", silent=False) + "   # all the rest, as without rules"


@dataclass(frozen=True, slots=True)
class AddedRule:
    """A rule that was added."""

    number: int  # its place, from 1
    with_rest: bool  # whether a last rule for all the rest was added, too


def add_rule(site: Site, rule: RuleSettings, *, last: bool = False) -> AddedRule:
    """Add a rule: before the others, because the first that fits counts, or after them. Raises InvalidSettings."""
    if rule == RuleSettings():
        raise UsageError("a rule without any word fits everything: say what it is about, or where it goes")
    block = block_of(
        "rule",
        channels=list(rule.channels),
        events=list(map(str, rule.events)),
        standings=list(map(str, rule.standings)),
        kinds=list(rule.kinds),
        subnets=list(rule.subnets),
        places=list(rule.places),
        devices=list(rule.devices),
        hours=rule.hours,
        severity=str(rule.severity) if rule.severity is not None else None,
        **({"silent": True} if rule.silent else {}),
        repeat_s=rule.repeat_s,
        **({"repeat_times": rule.repeat_times} if rule.repeat_s is not None else {}),
        second=rule.second,
        **({"second_after_s": rule.second_after_s} if rule.second is not None else {}),
    )
    there = site.settings.rule
    if not there:
        change_settings(site, lambda text: with_settings(text, f"{block}\n\n{_REST}"))()
        return AddedRule(1, with_rest=True)
    if last:
        change_settings(site, lambda text: with_settings(text, block))()
        return AddedRule(len(there) + 1, with_rest=False)
    change_settings(site, lambda text: with_block_before(text, "rule", block))()
    return AddedRule(1, with_rest=False)


def remove_rule(site: Site, number: int) -> RuleSettings:
    """Take a rule out by its place, from 1. Returns it. Raises NotFound, Refused."""
    there = site.settings.rule
    if not 1 <= number <= len(there):
        raise NotFound(f"there is no rule {number}: scopion alerts rules lists {len(there) or 'none'}")
    change_settings(site, lambda text: without_block(text, "rule", number - 1))()
    return there[number - 1]
