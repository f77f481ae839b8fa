"""Every described request of a running Tanner, by schemathesis: no answer may be an error inside.

    python tests/trust/attack_api.py [--seconds 300] [--seed 1]

Authorised, all phases, on a shoot of three frames. At its end the originals are as they were and the Sheet still answers.
"""

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent))

from made import hashes, series  # noqa: E402
from serving import Running, running  # noqa: E402

from tanner.studio.camera import take  # noqa: E402


def attacked(server: Running, seconds: int, seed: int) -> int:
    """Run schemathesis; its exit code."""
    command = [
        str(Path(sys.executable).parent / "schemathesis"), "run", f"{server.url}/api/openapi.json",
        "--header", f"Authorization: Bearer {server.services.token}",
        "--checks", "not_a_server_error", "--phases", "examples,coverage,fuzzing,stateful",
        "--max-time", str(seconds), "--seed", str(seed), "--workers", "2", "--continue-on-failure",
        "--request-timeout", "60", "--suppress-health-check", "all", "--warnings", "off", "--generation-database", "none",
    ]  # fmt: skip
    hooks = {**os.environ, "SCHEMATHESIS_HOOKS": "attack_hooks", "PYTHONPATH": str(HERE)}
    return subprocess.run(command, cwd=server.folder, env=hooks, check=False).returncode


def main() -> int:
    reader = argparse.ArgumentParser(description=__doc__)
    reader.add_argument("--seconds", type=int, default=300)
    reader.add_argument("--seed", type=int, default=1)
    wanted = reader.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="attack-"))
    try:
        with running(folder) as server:
            photos = folder / "photos"
            for shot in series()[:3]:
                (photos / shot.name).write_bytes(take(shot))
            server.post("/api/shoots", {"name": "Spring"})
            server.bring_in(1, sorted(photos.iterdir()))
            before = hashes(photos)
            code = attacked(server, wanted.seconds, wanted.seed)
            after = hashes(photos)
            changed = [name for name, content in before.items() if after.get(name) != content]
            server.get("/api/shoots/1/sheet")
        print(f"originals changed: {len(changed)} of {len(before)}")
        return code or bool(changed)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    sys.exit(main())
