"""General Redfish clients that nobody here wrote do a technician's work on a served simulator: `sushy`, and the
standard body's own REST library.

Each reads the server, creates a volume, reads it and deletes it, sets a firmware attribute, lights an LED and restarts.
They are not dependencies of this project; install them beside it. Exits with 1 where one of them could not do a step.

    pip install sushy redfish
    python benchmarks/outsiders.py
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

PASSWORD, PORT = "tide-4711-long", 18447
HERE = Path(sys.executable).parent
SYSTEM = "/redfish/v1/Systems/skerry-1"
STORAGE = f"{SYSTEM}/Storage/CTRL-1"

Step = tuple[str, Callable[[], object]]


def with_sushy(at: str) -> list[Step]:
    import sushy  # noqa: PLC0415

    root = sushy.Sushy(f"{at}/redfish/v1", "tech", PASSWORD, verify=False, server_side_retries=0)
    system = root.get_system(SYSTEM)
    storage = next(s for s in system.storage.get_members() if s.identity == "CTRL-1")
    made: list[Any] = []

    def create() -> str:
        links = {"Drives": [{"@odata.id": f"{STORAGE}/Drives/Bay-{bay}"} for bay in (4, 5)]}
        body = {"RAIDType": "RAID1", "Name": "theirs", "Links": links}
        storage.volumes.create(body)
        storage.volumes.refresh()
        made.extend(v for v in storage.volumes.get_members() if v.name == "theirs")
        return f"{made[0].raid_type}, {made[0].capacity_bytes} bytes"

    def light() -> str:
        drive = next(d for d in storage.drives if d.path.endswith("Bay-5"))
        root._conn.patch(drive.path, data={"LocationIndicatorActive": True})
        drive.refresh()
        return str(drive.json["LocationIndicatorActive"])

    return [
        ("read", lambda: f"{system.name}, {len(storage.drives)} drives, boots {system.boot.get('mode')}"),
        ("create a volume", create),
        ("delete it", lambda: made[0].delete()),
        ("set an attribute", lambda: (system.bios.set_attribute("StartDelay", 7), system.bios.pending_attributes)[1][
            "StartDelay"]),
        ("light an LED", light),
        ("restart", lambda: system.reset_system(sushy.RESET_FORCE_RESTART)),
    ]  # fmt: skip


def with_library(at: str) -> list[Step]:
    import redfish  # noqa: PLC0415

    client = redfish.redfish_client(base_url=at, username="tech", password=PASSWORD)
    client.login(auth="session")
    made: list[str] = []

    def asked(method: str, path: str, body: object = None) -> Any:
        answer = getattr(client, method)(path, **({"body": body} if body is not None else {}))
        if answer.status >= 400:
            raise RuntimeError(f"{method} {path}: {answer.status} {json.dumps(answer.dict)[:300]}")
        return answer

    def create() -> str:
        links = {"Drives": [{"@odata.id": f"{STORAGE}/Drives/Bay-{bay}"} for bay in (4, 5, 6)]}
        body = {"RAIDType": "RAID5", "DisplayName": "theirs", "StripSizeBytes": 65536, "Links": links}
        made.append(asked("post", f"{STORAGE}/Volumes", body).getheader("Location"))
        return str(asked("get", made[0]).dict["RAIDType"])

    def attribute() -> object:
        asked("patch", f"{SYSTEM}/Bios/Settings", {"Attributes": {"StartDelay": 8}})
        return asked("get", f"{SYSTEM}/Bios/Settings").dict["Attributes"]["StartDelay"]

    def light() -> object:
        path = f"{STORAGE}/Drives/Bay-5"
        asked("patch", path, {"LocationIndicatorActive": False})
        return asked("get", path).dict["LocationIndicatorActive"]

    def restart() -> object:
        return asked("post", f"{SYSTEM}/Actions/ComputerSystem.Reset", {"ResetType": "GracefulRestart"}).status

    return [
        ("read", lambda: asked("get", SYSTEM).dict["Name"]),
        ("create a volume", create),
        ("delete it", lambda: asked("delete", made[0]).status),
        ("set an attribute", attribute),
        ("light an LED", light),
        ("restart", restart),
    ]


def main() -> None:
    failed = 0
    for name, steps_of in (("sushy", with_sushy), ("redfish", with_library)):
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            subprocess.run([HERE / "fstripe", "bench", "new", "b"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
            words = [HERE / "fstripe", "bench", "serve", "b", "--port", str(PORT), "--user", "tech", "--speed", "60"]
            env = {k: v for k, v in os.environ.items() if k not in ("REQUESTS_CA_BUNDLE", "CURL_CA_BUNDLE")}
            os.environ.pop("REQUESTS_CA_BUNDLE", None)
            served = subprocess.Popen(words, cwd=folder, env=env | {"FSTRIPE_SERVE_PASSWORD": PASSWORD}, stdout=-1)
            try:
                assert served.stdout is not None
                served.stdout.readline()
                for step, act in steps_of(f"https://127.0.0.1:{PORT}"):
                    try:
                        print(f"{name:8} {step:17} {act()}")
                    except Exception as reason:  # whatever a foreign client says is what there is to tell
                        failed += 1
                        print(f"{name:8} {step:17} FAILED: {type(reason).__name__}: {str(reason)[:300]}")
            except ImportError as reason:
                print(f"{name:8} is not installed here ({reason}): pip install {name}")
                failed += 1
            finally:
                served.terminate()
                served.wait()
                time.sleep(0.2)
    sys.exit(failed > 0)


if __name__ == "__main__":
    main()
