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
    say "Installing $missing (about a minute)"
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

# Which command gets a tool that Debian or its makers have.
how_to_get() {
  case "$1" in
    cargo) echo "Install Rust with: sudo apt-get install -y rustup && rustup default stable" ;;
    *) echo "Install it with: sudo apt-get update && sudo apt-get install -y --no-install-recommends nodejs npm" ;;
  esac
}

need_tools() {
  local tool
  for tool in cargo node npm; do
    command -v "$tool" >/dev/null || { say "$tool is missing. $(how_to_get "$tool")"; return 1; }
  done
}

# What is going on, on standard error.
say() { printf '%s\n' "$*" >&2; }

# The whole workspace is named, so that the demo and the tests find the same build.
build_service() {
  local binary="${CARGO_TARGET_DIR:-target}/release/graphodrome"
  if [ -x "$binary" ]; then
    cargo build --release --locked --quiet --workspace --bin graphodrome
    return
  fi
  say "Building the service: 10 to 25 minutes on two cores the first time, a few seconds later on"
  local start=$SECONDS
  # Cargo's own progress goes to the terminal, where there is one; elsewhere a line a minute says that it goes on.
  if [ -t 2 ]; then
    cargo build --release --locked --workspace --bin graphodrome
  else
    cargo build --release --locked --quiet --workspace --bin graphodrome &
    local build=$! minutes=0
    while kill -0 "$build" 2>/dev/null; do
      sleep 1
      if [ $(((SECONDS - start) / 60)) -gt "$minutes" ]; then
        minutes=$(((SECONDS - start) / 60))
        say "  still building, $minutes min"
      fi
    done
    wait "$build"
  fi
  say "Built in $(((SECONDS - start) / 60)) min $(((SECONDS - start) % 60)) s"
}

build_console() {
  # Only when its sources are newer than what was built.
  local dist=apps/console/dist/index.html
  if [ ! -e apps/console/node_modules/.package-lock.json ] || [ apps/console/package-lock.json -nt apps/console/node_modules/.package-lock.json ]; then
    say "Fetching the console's packages (about half a minute)"
    (cd apps/console && npm ci --no-audit --no-fund --loglevel=error > /dev/null)
  fi
  if [ ! -e "$dist" ] || [ -n "$(find apps/console/src apps/console/index.html apps/console/public apps/console/package-lock.json -newer "$dist" | head -n 1)" ]; then
    say "Building the console (a few seconds)"
    (cd apps/console && npm run --silent build -- --logLevel warn)
    # The binary holds the built files.
    touch apps/service/src/routes/console.rs
  fi
}
