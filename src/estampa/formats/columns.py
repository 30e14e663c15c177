"""Tables of columns, as CSV (RFC 4180) or Parquet, written and read a part at a time (Apache Arrow)."""

from collections.abc import Iterable
from pathlib import Path

import numpy as np

from . import bounds


def write(path: Path, parts: Iterable[dict[str, np.ndarray]], form: str) -> None:
    """parts -- columns (k,) by name, the same names in each; form -- "csv" or "parquet"."""
    import pyarrow as pa
    from pyarrow import csv, parquet

    writer, schema = None, None
    try:
        for part in parts:
            arrays = {n: pa.array(np.ascontiguousarray(v)) for n, v in part.items()}
            schema = schema or pa.schema([pa.field(n, a.type, nullable=False) for n, a in arrays.items()])
            table = pa.table(arrays, schema)
            if writer is None:
                if form == "csv":
                    plain = csv.WriteOptions(quoting_style="none", quoting_header="none")
                    writer = csv.CSVWriter(str(path), schema, write_options=plain)
                else:
                    # numbers of motion hardly repeat: looking for what does takes longer than it saves
                    writer = parquet.ParquetWriter(str(path), schema, compression="none", use_dictionary=False,
                                                   write_statistics=False)  # fmt: skip
            writer.write_table(table)
    finally:
        if writer is not None:
            writer.close()


def read(path: Path) -> dict[str, np.ndarray]:
    """Columns (k,) by name. Raises EstampaError where it is no such table."""
    from pyarrow import csv, parquet

    bounds.plain(path)
    with bounds.in_words(path.name):
        found = parquet.read_table(str(path)) if path.suffix == ".parquet" else csv.read_csv(str(path))
        return {n: found[n].to_numpy() for n in found.column_names}
