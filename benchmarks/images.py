"""An image of this machine's own files in three layers: the first question, and the second.

The first is held against what general tools take to decompress and digest the same layers, on as many
processors; the second against the start of a bare program, as questions to a directory are.
"""

import hashlib
import json
import shlex
import shutil
import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path

TOPS = (
    ("usr/bin", "usr/sbin", "etc", "var/lib/dpkg", "bin", "sbin"),
    ("usr/share",),
    ("usr/local", "usr/include"),
)
FORMS = {"gzip": ("gzip -6c", "gzip -dc"), "zstd": ("zstd -qc", "zstd -dqc")}
_KIND = "application/vnd.oci.image"


def digest_of(path: Path) -> str:
    with path.open("rb") as file:
        return f"sha256:{hashlib.file_digest(file, 'sha256').hexdigest()}"


def written(top: Path, form: str, plain: list[Path]) -> Path:
    """A layout of these layers, packed so."""
    blobs = top / form / "blobs/sha256"
    blobs.mkdir(parents=True)

    def put(told: object, kind: str) -> dict[str, object]:
        data = json.dumps(told).encode()
        name = hashlib.sha256(data).hexdigest()
        (blobs / name).write_bytes(data)
        return {"mediaType": f"{_KIND}.{kind}", "digest": f"sha256:{name}", "size": len(data)}

    rows = []
    for path in plain:
        packed = top / "packed"
        subprocess.run(f"{FORMS[form][0]} {path} > {packed}", shell=True, check=True)
        digest, size = digest_of(packed), packed.stat().st_size
        packed.rename(blobs / digest[7:])
        rows.append({"mediaType": f"{_KIND}.layer.v1.tar+{form}", "digest": digest, "size": size})
    rootfs = {"type": "layers", "diff_ids": [digest_of(path) for path in plain]}
    config = put({"os": "linux", "architecture": "amd64", "rootfs": rootfs}, "config.v1+json")
    manifest = put({"schemaVersion": 2, "config": config, "layers": rows}, "manifest.v1+json")
    (top / form / "index.json").write_text(
        json.dumps({"schemaVersion": 2, "manifests": [manifest]})
    )
    (top / form / "oci-layout").write_text('{"imageLayoutVersion": "1.0.0"}')
    return top / form


def images(filigree: str, start: str, runs: int, compare: Callable[..., None]) -> None:
    """Print a line for the first question in each form, and one for the next."""
    with tempfile.TemporaryDirectory() as folder:
        top = Path(folder)
        plain = []
        for number, names in enumerate(TOPS):
            plain.append(top / f"{number}.tar")
            here = [name for name in names if Path("/", name).exists()]
            subprocess.run(
                ["tar", "-C", "/", "-cf", plain[-1], *here], stderr=subprocess.DEVNULL, check=False
            )
        size = sum(path.stat().st_size for path in plain)
        print(f"\nan image of {size / 1e9:.1f} GB in three layers:")
        for form, (_, unpack) in FORMS.items():
            if shutil.which(form) is None:
                print(f"there is no {form} here")
                continue
            image = written(top, form, plain)
            blobs = sorted(
                (image / "blobs/sha256").iterdir(), key=lambda path: -path.stat().st_size
            )[:3]
            each = f"sha256sum {{}} ; {unpack} {{}} | sha256sum"
            names = " ".join(shlex.quote(str(path)) for path in blobs)
            theirs = f"printf '%s\\n' {names} | xargs -P $(nproc) -I{{}} sh -c {shlex.quote(each)}"
            cache = top / "cache"
            again = f"XDG_CACHE_HOME={cache} {filigree} census --count --root {image} | cat"
            first = f"rm -rf {cache}; {again}"
            compare(f"{form}: the first question", first, theirs, 1.3, runs)
            compare(f"{form}: the next", again, start, 2.5, runs)
