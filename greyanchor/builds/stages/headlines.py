"""The one line that a folded stage shows."""

from __future__ import annotations

from greyanchor.builds.models import Stage
from greyanchor.builds.stages import kinds


def headline(stage: Stage) -> str:
    """The figure that matters, in one line."""
    if stage.source:
        if stage.source == Stage.Source.KEPT:
            return _figure(stage)
        what = _figure(stage) if stage.source == Stage.Source.INHERITED else ""
        return f"{what}  {stage.source_text}" if what else stage.source_text
    return _figure(stage)


def _figure(stage: Stage) -> str:
    r, d = stage.result, stage.decision
    if stage.kind == kinds.INK_LIMITS and (d or r):
        limits = d["limits"] if d else {c: v["percent"] for c, v in r["limits"].items()}  # type: ignore[index]
        return "  ".join(f"{c} {v:.1f} %" for c, v in limits.items())
    if stage.kind == kinds.TOTAL_INK and d:
        return f"{d['total_ink']:.0f} %"
    if r is None:
        return d.get("note", "") if d else ""
    if stage.kind == kinds.LINEARIZATION and not r["scales"]:
        sure = r.get("sure")
        return f"by eye, tone within {max(sure.values()):.0f} %" if sure else ""
    if stage.kind == kinds.LINEARIZATION:
        confirm = r.get("confirm")
        if confirm:
            return f"largest deviation {confirm['max']:.1f} %, mean {confirm['mean']:.1f} %, confirmed (aim {r['aim']})"
        before = max(s["deviation_before"][1] for s in r["scales"].values())
        after = max(s["deviation_after"][1] for s in r["scales"].values())
        return f"largest deviation {before:.1f} % before, {after:.1f} % predicted after (aim {r['aim']})"
    if stage.kind == kinds.GREYS:
        tone, grey = r["figures"]["cmy_tone"], r["figures"]["cmy_balance"]
        told = f"wdL* {tone['before'][0]:.1f} to {tone['after'][0]:.2f}, wdCh {grey['before'][0]:.1f} to {grey['after'][0]:.2f} predicted"
        return (
            f"{told}; verified: {r['confirm']['verdict'].upper()}"
            if r.get("confirm")
            else f"{told}; not verified"
        )
    if stage.kind == kinds.TOTAL_INK:
        return f"{r['percent']:.0f} %"
    if stage.kind == kinds.PROFILE_CHART:
        return f"{r['patches']} patches, paper L* {r['paper'][0]:.1f} a* {r['paper'][1]:.1f} b* {r['paper'][2]:.1f}"
    if stage.kind == kinds.PROFILE:
        if r.get("attached"):
            belongs = f", {r['held_out']['mean']:.2f} dE00 from this mode's readings" if r["held_out"] else ""
            return f"attached: {r['attached']}{belongs}"
        return f"held out {r['held_out']['mean']:.2f}, round trip {r['round_trip']['mean']:.2f} dE00 mean"
    if stage.kind == kinds.CHECK:
        return f"{r['verdict'].upper()}: {r['summary']}"
    return ""
