"""Build the wheel, install it with the locked packages, start it and open its page: `make wheel`."""

import re
import subprocess
import sys
import tempfile
import urllib.request
import venv
from pathlib import Path

ROOT = Path(__file__).parent.parent


def main() -> int:
    target = ROOT / "dist"
    subprocess.run(
        [sys.executable, "-m", "pip", "wheel", "--quiet", "--no-deps", "--wheel-dir", str(target), str(ROOT)],
        check=True,
    )
    wheel = max(target.glob("grey_heron-*.whl"), key=lambda file: file.stat().st_mtime)
    with tempfile.TemporaryDirectory() as folder:
        empty = Path(folder) / "environment"
        venv.create(empty, with_pip=True)
        pip = [str(empty / "bin" / "pip"), "--quiet"]
        locked = ["--require-hashes", "--requirement", str(ROOT / "users.lock")]
        subprocess.run([*pip, "install", *locked], check=True)
        subprocess.run([*pip, "install", "--no-deps", str(wheel)], check=True)
        subprocess.run([*pip, "check"], check=True)
        command = [str(empty / "bin" / "grey-heron"), "serve", "--demo", "--no-open", "--port", "0"]
        server = subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE, text=True)
        try:
            assert server.stdout is not None
            said = server.stdout.readline()
            address = said.split()[-1]
            page = fetched(address)
            script = re.search(r'src="(/assets/[^"]+\.js)"', page)
            assert script, f"the page at {address} loads no script: {page[:200]}"
            fetched(address.rstrip("/") + script[1])
            assert "Saltmarsh" in fetched(address + "api/networks")
        finally:
            server.terminate()
            server.wait()
    print(f"{wheel.name} ({wheel.stat().st_size / 2**20:.1f} MiB) installs, starts and shows its page")
    return 0


def fetched(address: str) -> str:
    with urllib.request.urlopen(address, timeout=60) as response:
        return str(response.read().decode())


if __name__ == "__main__":
    sys.exit(main())
