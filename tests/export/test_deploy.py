"""The scripts of docs/deploy.md run as they stand and give our predictions."""

from __future__ import annotations

import json
import re
import socket
import subprocess
import sys
import unittest
import urllib.request
from pathlib import Path

import numpy as np
import polars

from axiarch.data.building import build_dataset
from axiarch.data.demo import hive_states, write_columns
from axiarch.data.reading import read_table
from axiarch.export.network import export_network
from axiarch.export.predicting import predict_file
from tests.export.test_models import trained
from tests.support import FolderCase, until

TEXT = (Path(__file__).resolve().parents[2] / "docs" / "deploy.md").read_text(encoding="utf-8")


class Scripts(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        blocks = re.findall(r"```python\n# (\w+\.py) .*?\n(.*?)```", TEXT, flags=re.DOTALL)
        for name, code in blocks:
            (self.folder / name).write_text(code, encoding="utf-8")
        self.assertEqual([name for name, _ in blocks], ["predict.py", "serve.py"])
        table = write_columns(self.folder / "t.csv", hive_states(300).columns)
        data = build_dataset(read_table(table)[0], self.folder / "d", "d")
        self.model, _ = trained(data, self.folder)
        export_network(self.model, self.folder / "n.onnx")
        predict_file(self.model, self.folder / "t.csv", self.folder / "o.csv")
        self.own = polars.read_csv(self.folder / "o.csv")
        self.shares = self.own.select(f"probability of {c}" for c in data.classes).to_numpy()

    def test_ten_lines(self) -> None:
        code = (self.folder / "predict.py").read_text().strip().splitlines()
        self.assertLessEqual(len(code), 13)
        done = subprocess.run([sys.executable, "predict.py", "n.onnx", "t.csv"],
                              cwd=self.folder,
                              text=True,
                              capture_output=True,
                              timeout=60,
                              check=True)
        rows = [line.split() for line in done.stdout.splitlines()]
        self.assertEqual([row[0] for row in rows], self.own["predicted state"].to_list())
        np.testing.assert_allclose([[float(p) for p in row[1:]] for row in rows],
                                   self.shares,
                                   atol=2e-6)

    def test_over_http(self) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        server = subprocess.Popen(
            [sys.executable, "serve.py", "n.onnx", str(port)],
            cwd=self.folder,
            stderr=subprocess.DEVNULL)
        self.addCleanup(server.wait)
        self.addCleanup(server.kill)
        row = polars.read_csv(self.folder / "t.csv").row(0, named=True)

        def answered() -> dict[str, object] | None:
            request = urllib.request.Request(f"http://127.0.0.1:{port}", json.dumps(row).encode())
            try:
                with urllib.request.urlopen(request, timeout=10) as answer:
                    return json.load(answer)  # type: ignore[no-any-return]
            except OSError:
                return None

        until(lambda: answered() is not None)
        found = answered()
        assert found is not None
        self.assertEqual(found["label"], self.own["predicted state"][0])
        np.testing.assert_allclose(found["probabilities"], self.shares[0],
                                   atol=2e-6)  # type: ignore[arg-type]


if __name__ == "__main__":
    unittest.main()
