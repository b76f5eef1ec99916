#!/usr/bin/env bash
# Installs the references that `compare.py` asks (Debian's packages as root, poetry-core into the environment given).
set -euo pipefail
apt-get install -y --no-install-recommends php-cli php-composer-semver ruby default-jdk-headless libmaven3-core-java nodejs npm
"${1:-.venv/bin/python}" -m pip install 'poetry-core>=2.0'
