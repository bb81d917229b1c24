#!/usr/bin/env bash
# Installs the engine of these examples beside them.
set -euo pipefail
cd "$(dirname "$0")"
java -version 2>&1 | head -1 || { echo "Java 17 is needed" >&2; exit 1; }
python3 -m venv .venv
.venv/bin/pip install -q "pyspark==4.3.0" "pandas<3"
