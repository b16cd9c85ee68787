"""Outside witnesses for the served bench: the DMTF's protocol conformance suite, its use-case checkers, and its
reference client library. Exits with 1 where any of them finds a failure.

They are not dependencies of this project; install them beside it:

    pip install redfish redfish_protocol_validator redfish_use_case_checkers
    python benchmarks/conformance.py
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PASSWORD, PORT = "tide-4711-long", 18442
HERE = Path(sys.executable).parent


def main() -> None:
    suite = shutil.which("rf_protocol_validator", path=f"{HERE}{os.pathsep}{os.environ.get('PATH', '')}")
    failed = 0
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        subprocess.run([HERE / "fstripe", "bench", "new", "b"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        env = {k: v for k, v in os.environ.items() if k not in ("REQUESTS_CA_BUNDLE", "CURL_CA_BUNDLE")}
        serve = [HERE / "fstripe", "bench", "serve", "b", "--port", str(PORT), "--user", "tech"]
        with (folder / "served").open("w") as out:
            served = subprocess.Popen(serve, cwd=folder, env=env | {"FSTRIPE_SERVE_PASSWORD": PASSWORD}, stdout=out)
        try:
            time.sleep(3)
            if suite:
                failed += protocol(suite, folder, env)
            else:
                print("the protocol suite is not installed: pip install redfish_protocol_validator")
            library(folder)
            failed += uses(folder, env)
        finally:
            served.terminate()
            served.wait()
    sys.exit(1 if failed else 0)


def protocol(suite: str, folder: Path, env: dict[str, str]) -> int:
    """Run the suite; print its counts and every test that failed; how many those are."""
    failed = 0
    words = [suite, "-u", "tech", "-p", PASSWORD, "-r", f"https://127.0.0.1:{PORT}", "--no-cert-check",
             "--avoid-http-redirect", "--report-type", "tsv"]  # fmt: skip
    done = subprocess.run(words, cwd=folder, env=env, capture_output=True, text=True, check=False)
    summary = re.search(r"Summary - (.*)", done.stdout + done.stderr)
    print("protocol suite:", summary[1] if summary else done.stderr[-500:])
    for report in (folder / "reports").glob("*.tsv"):
        for line in report.read_text().splitlines():
            if "\tFAIL\t" in line:
                failed += 1
                print("  failed:", line[:200])
    return failed if summary else 1


def uses(folder: Path, env: dict[str, str]) -> int:
    """Run the use-case checkers; print their counts; how many cases failed."""
    checkers = shutil.which("rf_use_case_checkers", path=f"{HERE}{os.pathsep}{os.environ.get('PATH', '')}")
    if not checkers:
        print("the use-case checkers are not installed: pip install redfish_use_case_checkers")
        return 0
    words = [checkers, "-u", "tech", "-p", PASSWORD, "-r", f"https://127.0.0.1:{PORT}", "--report-dir", "uses"]
    done = subprocess.run(words, cwd=folder, env=env, capture_output=True, text=True, check=False)
    counts = re.search(r"\|\s+(\d+)\s+\|\s+(\d+)\s+\|\s+(\d+)\s+\|\s+(\d+)\s+\|", done.stdout)
    if not counts:
        print("use-case checkers:", (done.stdout + done.stderr)[-500:])
        return 1
    print("use-case checkers: PASS: {}, WARN: {}, FAIL: {}, NOT_TESTED: {}".format(*counts.groups()))
    return int(counts[3])


def library(folder: Path) -> None:
    """The reference client logs in, walks from the root to every drive and volume, and logs out."""
    try:
        import redfish  # noqa: PLC0415
    except ImportError:
        print("the reference client is not installed: pip install redfish")
        return
    client = redfish.redfish_client(
        base_url=f"https://127.0.0.1:{PORT}", username="tech", password=PASSWORD, cafile=str(folder / "b" / "tls.pem")
    )
    client.login(auth="session")
    walked, waiting = set(), ["/redfish/v1/"]
    while waiting:
        path = waiting.pop()
        if path in walked:
            continue
        walked.add(path)
        answer = client.get(path)
        assert answer.status == 200, (path, answer.status)
        waiting += [found for found in links(answer.dict) if found.startswith("/redfish/") and "#" not in found]
    client.logout()
    print(f"reference client: {len(walked)} resources reached by following links, every one answered with 200")


def links(body: object) -> list[str]:
    if isinstance(body, dict):
        own = [v for k, v in body.items() if k == "@odata.id" and isinstance(v, str)]
        return own + [found for value in body.values() for found in links(value)]
    return [found for value in body for found in links(value)] if isinstance(body, list) else []


if __name__ == "__main__":
    main()
