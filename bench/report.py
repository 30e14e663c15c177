"""python -m bench.report [PART ...]: the table of those parts, or of all, and bench/result.json."""

import importlib
import json
import os
import platform
import sys
from dataclasses import asdict
from pathlib import Path

import estampa  # noqa: F401  (sets how kernels wait before the OpenMP library is loaded)

PARTS = ("edits", "cloth", "contact", "noise", "motion", "skeletons", "store", "fresh", "bodies", "pieces", "swarm",
         "liquid", "assets", "prints", "window")  # fmt: skip


def main(wanted: list[str]) -> int:
    rows = []
    for part in wanted or PARTS:
        for row in importlib.import_module(f"bench.{part}").rows():
            rows.append(row)
            verdict = {True: "good", False: "MISSED", None: ""}[row.good]
            print(
                f"{row.what}\n    {row.figure}   against   {row.reference}\n"
                f"    ratio {row.ratio:.2f}  {row.wanted}  {verdict}",
                flush=True,
            )
    result = {
        "machine": platform.processor() or platform.machine(),
        "cores": os.cpu_count(),
        "rows": [asdict(r) for r in rows],
    }
    Path(__file__).with_name("result.json").write_text(json.dumps(result, indent=1, ensure_ascii=False))
    return int(any(row.good is False for row in rows))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
