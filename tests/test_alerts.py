"""The alert rules of `docs/alerts.yml`, run by a rule checker where there is one: promtool of Debian's prometheus."""

import json
import shutil
import subprocess
from pathlib import Path

import pytest

RULES = Path(__file__).parent.parent / "docs" / "alerts.yml"
PROMTOOL = shutil.which("promtool")
V = 'server="s",volume="v",controller="c",path="/v"'
D = 'server="s",bay="5",serial="A",path="/d"'

CASES = {
    # name: (series and their values a minute, minute, alerts that fire)
    "a silent server": ({'fstripe_up{server="s"}': "0x15"}, 11, ["ServerSilent"]),
    "a server that was silent for a moment": ({'fstripe_up{server="s"}': "1 0 1x15"}, 11, []),
    "offline": ({f'fstripe_volume_state{{{V},state="offline"}}': "1x5", f"fstripe_volume_margin{{{V}}}": "-1x5"}, 1,
                ["VolumeOffline"]),
    "lost bytes": ({f"fstripe_volume_lost_bytes{{{V}}}": "4096x5"}, 1, ["VolumeBytesLost"]),
    "no lost bytes": ({f"fstripe_volume_lost_bytes{{{V}}}": "0x5"}, 1, []),
    "degraded": ({f"fstripe_volume_margin{{{V}}}": "0x9", f'fstripe_volume_state{{{V},state="degraded"}}': "1x9"}, 5,
                 ["VolumeSurvivesNoFurtherFailure"]),
    "a RAID 0 that is well": (
        {f"fstripe_volume_margin{{{V}}}": "0x9", f'fstripe_volume_state{{{V},state="degraded"}}': "0x9"}, 5, []),
    "another server's volume is degraded": (
        {f"fstripe_volume_margin{{{V}}}": "0x9",
         'fstripe_volume_state{server="t",volume="v",controller="c",path="/v",state="degraded"}': "1x9"}, 5, []),
    "a failed drive": ({f"fstripe_drive_health{{{D}}}": "2x9", f"fstripe_drive_needed{{{D}}}": "0x9"}, 5,
                       ["DriveFailed"]),
    "a drive that an offline volume needs": (
        {f"fstripe_drive_health{{{D}}}": "2x9", f"fstripe_drive_needed{{{D}}}": "1x9"}, 5, ["DriveBringsVolumeBack"]),
    "the drive of another server is needed": (
        {f"fstripe_drive_health{{{D}}}": "2x9",
         'fstripe_drive_needed{server="t",bay="5",serial="A",path="/d"}': "1x9"}, 5, ["DriveFailed"]),
    "work that stood still for three minutes": (
        {'fstripe_work_done_ratio{server="s",volume="v",work="rebuild",target="5"}': "0.5x3"}, 3, []),
    "work that stood still for hours": (
        {'fstripe_work_done_ratio{server="s",volume="v",work="rebuild",target="5"}': "0.5x400"}, 390,
        ["WorkStandsStill"]),
    "work that goes on": (
        {'fstripe_work_done_ratio{server="s",volume="v",work="rebuild",target="5"}': "0.1+0.001x400"}, 390, []),
    "a link that comes and goes": ({f"fstripe_drive_link_losses{{{D}}}": "36x5"}, 1, ["DriveLinkFlaps"]),
    "a slow drive": ({f"fstripe_drive_slowed_ratio{{{D}}}": "10x20"}, 12, ["DriveSlow"]),
    "no spare": ({'fstripe_hot_spares{server="s"}': "0x70"}, 65, ["NoHotSpare"]),
}  # fmt: skip


@pytest.mark.skipif(PROMTOOL is None, reason="no promtool here (Debian's package prometheus has it)")
def test_the_rules_fire_when_they_should_and_not_else(tmp_path):
    """One document for the checker: every alert of the file is expected, or expected not to be, in every case."""
    shutil.copy(RULES, tmp_path / "alerts.yml")
    names = [line.split("alert: ")[1] for line in RULES.read_text().splitlines() if "alert: " in line]
    assert set(names) >= {alert for _series, _minute, alerts in CASES.values() for alert in alerts}
    tests = []
    for series, minute, alerts in CASES.values():
        inputs = [{"series": name, "values": values} for name, values in series.items()]
        expected = [
            {"expr": f'count(ALERTS{{alertname="{name}",alertstate="firing"}})', "eval_time": f"{minute}m",
             "exp_samples": [{"value": 1, "labels": "{}"}] if name in alerts else []}
            for name in names
        ]  # fmt: skip
        tests.append({"interval": "1m", "input_series": inputs, "promql_expr_test": expected})
    document = {"rule_files": ["alerts.yml"], "evaluation_interval": "1m", "tests": tests}
    (tmp_path / "tests.yml").write_text(json.dumps(document))  # JSON is YAML, too
    done = subprocess.run([PROMTOOL, "test", "rules", "tests.yml"], cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr
    checked = subprocess.run([PROMTOOL, "check", "rules", "alerts.yml"], cwd=tmp_path, capture_output=True, text=True)
    assert checked.returncode == 0, checked.stdout + checked.stderr
