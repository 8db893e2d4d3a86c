# Shared by the scripts beside it: installs what is missing and builds.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."

# Debian packages, when root or sudo may install them. $@: "PROGRAM-PATH PACKAGE" pairs.
need_packages() {
  local missing=()
  while [ $# -gt 1 ]; do
    [ -e "$1" ] || missing+=("$2")
    shift 2
  done
  [ ${#missing[@]} -eq 0 ] && return
  local as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || { echo "Install these Debian packages first: ${missing[*]}" >&2; exit 1; }
    as_root=(sudo)
  fi
  echo "Installing ${missing[*]}"
  # The package must not leave a cluster of its own running.
  local had_conf=0
  [ -e /etc/postgresql-common/createcluster.conf ] && had_conf=1
  if [ $had_conf -eq 0 ]; then
    "${as_root[@]}" mkdir -p /etc/postgresql-common
    echo 'create_main_cluster = false' | "${as_root[@]}" tee /etc/postgresql-common/createcluster.conf >/dev/null
  fi
  case " ${missing[*]} " in
    *' openssh-server '*) "${as_root[@]}" mkdir -p /etc/ssh && "${as_root[@]}" touch /etc/ssh/sshd_not_to_be_run ;;
  esac
  (
    # Nothing of what is installed is to run by itself, SSH least of all.
    policy=/usr/sbin/policy-rc.d
    if [ ! -e "$policy" ]; then
      trap '"${as_root[@]}" rm -f "$policy"' EXIT
      printf '#!/bin/sh\nexit 101\n' | "${as_root[@]}" tee "$policy" >/dev/null
      "${as_root[@]}" chmod +x "$policy"
    fi
    "${as_root[@]}" apt-get update -qq
    DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq -o Dpkg::Options::=--force-confold "${missing[@]}" >/dev/null
  )
}

need_node() {
  command -v node >/dev/null || { echo "Install Node.js 20 first." >&2; exit 1; }
  node -e 'const [major, minor] = process.versions.node.split(".").map(Number); process.exit(major > 20 || (major === 20 && minor >= 19) ? 0 : 1)' || { echo "Node.js 20.19 or newer is needed; this is $(node --version)." >&2; exit 1; }
}

# nginx for tests, by itself: where its package is installed, a server is started.
need_nginx() {
  local place=node_modules/.programs from
  [ -x "$place/usr/sbin/nginx" ] && return
  echo "Fetching nginx"
  from=$(mktemp --directory)
  (
    cd "$from"
    apt-get download -qq nginx >/dev/null 2>&1 || { apt-get update -qq && apt-get download -qq nginx >/dev/null; }
  )
  dpkg-deb --extract "$from"/nginx_*.deb "$place"
  rm -r "$from"
}

install_modules() {
  local stamp=node_modules/.installed
  if [ ! -e "$stamp" ] || ! cmp -s package-lock.json "$stamp"; then
    # Not `npm ci`: it refuses a lock file when a registry lacks packages of other platforms, which nobody needs here.
    npm install --no-save --no-audit --no-fund --loglevel=error
    cp package-lock.json "$stamp"
  fi
}

# Something that is built from and was changed after a file. $1: the file; $2...: which of it, as find says it.
changed_after() {
  local since=$1
  shift
  find packages bench bundle package-lock.json tsconfig.base.json tsconfig.json \
    \( -name dist -o -name node_modules -o -name test \) -prune -o "$@" -newer "$since" -print -quit
}

build() {
  # A folder has changed where a file of it is gone.
  if [ -e programs/.built ] && [ -z "$(changed_after programs/.built)" ]; then return; fi
  local began
  began=$(mktemp)
  npx --no-install tsc -b
  npx --no-install rolldown -c bundle/rolldown.config.js
  node bundle/keep-compiled.cjs
  if [ -e packages/console/index.html ]; then npm run --silent build -w @tessarion/console; fi
  # What was changed meanwhile is built the next time.
  if [ -z "$(changed_after "$began" -type f)" ]; then touch programs/.built; fi
  rm "$began"
}

POSTGRES=(/usr/lib/postgresql/15/bin/postgres postgresql-15)
