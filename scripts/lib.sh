# What both scripts share: installing what is missing, building. Sourced, never run.

missing_packages() {
  local missing=()
  [ -n "$(find /usr/lib/postgresql -maxdepth 3 -name pg_ctl 2>/dev/null | head -n 1)" ] || missing+=(postgresql)
  command -v cc >/dev/null || missing+=(gcc libc6-dev)
  local package
  for package in "$@"; do
    case "$package" in
      chromium) command -v chromium >/dev/null || missing+=(chromium) ;;
      chromium-driver) command -v chromedriver >/dev/null || missing+=(chromium-driver) ;;
    esac
  done
  echo "${missing[@]:-}"
}

install_packages() {
  local missing
  missing=$(missing_packages "$@")
  [ -z "$missing" ] && return 0
  if [ "$(id -u)" = 0 ]; then
    echo "Installing $missing"
    # The Debian package would start a server of its own; ours starts when it is needed.
    mkdir -p /etc/postgresql-common
    [ -e /etc/postgresql-common/createcluster.conf ] || echo "create_main_cluster = false" > /etc/postgresql-common/createcluster.conf
    export DEBIAN_FRONTEND=noninteractive
    apt-get update -qq
    # shellcheck disable=SC2086 # One word a package.
    apt-get install -y -qq --no-install-recommends $missing > /dev/null
  else
    echo "Missing: $missing. Install it with:" >&2
    echo "  sudo apt-get update && sudo apt-get install -y --no-install-recommends $missing" >&2
    return 1
  fi
}

need_tools() {
  local tool
  for tool in cargo node npm; do
    command -v "$tool" >/dev/null || { echo "$tool is not installed; the README says what is needed." >&2; return 1; }
  done
}

build_console() {
  # Only when its sources are newer than what was built.
  local dist=apps/console/dist/index.html
  if [ ! -e apps/console/node_modules/.package-lock.json ] || [ apps/console/package-lock.json -nt apps/console/node_modules/.package-lock.json ]; then
    (cd apps/console && npm ci --no-audit --no-fund --loglevel=error)
  fi
  if [ ! -e "$dist" ] || [ -n "$(find apps/console/src apps/console/index.html apps/console/public apps/console/package-lock.json -newer "$dist" | head -n 1)" ]; then
    (cd apps/console && npm run --silent build)
    # The binary holds the built files.
    touch apps/service/src/routes/console.rs
  fi
}
