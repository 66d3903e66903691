# Sourced by ./start and ./check: .venv at the root with the locked versions, and the system's libraries. Quick when nothing is missing.
# shellcheck shell=bash
set -euo pipefail
CALLED_FROM=$PWD
cd "$(dirname "${BASH_SOURCE[0]}")/.."
ROOT=$PWD

say() { printf '%s\n' "$*" >&2; }

# run COMMAND ...: its output goes to a log, which is named when it fails
LOG=$(mktemp "${TMPDIR:-/tmp}/epidote-setup.XXXXXX.log")
quietly() {
  if ! "$@" >>"$LOG" 2>&1; then
    say "This failed: $*"
    say "Its last lines:"
    tail -n 5 "$LOG" >&2
    say "All of its output is in $LOG. Nothing else was changed; run this again once the cause is removed."
    exit 1
  fi
}

# need FILE-OR-COMMAND PACKAGE ...: remember the Debian packages whose library or command is not there
MISSING=()
LIBRARIES=
need_library() {
  [ -n "$LIBRARIES" ] || LIBRARIES=$(PATH="$PATH:/sbin:/usr/sbin" ldconfig -p)
  case $LIBRARIES in *"$1"*) ;; *) MISSING+=("$2") ;; esac
}
need_command() { command -v "$1" >/dev/null 2>&1 || MISSING+=("$2"); }

install_missing() {
  [ ${#MISSING[@]} -gt 0 ] || return 0
  local as_root=()
  if [ "$(id -u)" != 0 ]; then
    if command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then as_root=(sudo -n); else
      say "Missing system packages: ${MISSING[*]}. Install them with: sudo apt-get install ${MISSING[*]}"
      exit 1
    fi
  fi
  if ! command -v apt-get >/dev/null 2>&1; then
    say "Missing libraries (Debian package names): ${MISSING[*]}. Install them with your system's package manager."
    exit 1
  fi
  say "Installing system packages: ${MISSING[*]}"
  "${as_root[@]}" apt-get update -qq >>"$LOG" 2>&1 || true
  quietly "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${MISSING[@]}"
  MISSING=()
  LIBRARIES=
}

PYTHON=${PYTHON:-python3}
need_command "$PYTHON" python3
install_missing
if ! "$PYTHON" -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then
  say "Epidote needs Python 3.11 or later; $PYTHON is $("$PYTHON" --version). Set PYTHON=/path/to/python3 to a newer version and try again."
  exit 1
fi

need_library libEGL.so.1 libegl1
need_library libportaudio.so.2 libportaudio2
need_library libGL.so.1 libgl1
need_library libfontconfig.so.1 libfontconfig1
need_library libxkbcommon.so.0 libxkbcommon0
need_library libxkbcommon-x11.so.0 libxkbcommon-x11-0
need_library libdbus-1.so.3 libdbus-1-3
need_library libxcb-cursor.so.0 libxcb-cursor0
need_library libxcb-icccm.so.4 libxcb-icccm4
need_library libxcb-image.so.0 libxcb-image0
need_library libxcb-keysyms.so.1 libxcb-keysyms1
need_library libxcb-randr.so.0 libxcb-randr0
need_library libxcb-render-util.so.0 libxcb-render-util0
need_library libxcb-shape.so.0 libxcb-shape0
need_library libxcb-xkb.so.1 libxcb-xkb1
install_missing

STAMP="$ROOT/.venv/.epidote-ready"
WANTED="$("$PYTHON" --version) $ROOT $(sha256sum requirements.lock pyproject.toml | sha256sum)"
if [ ! -x .venv/bin/epidote ] || [ ! -f "$STAMP" ] || [ "$(cat "$STAMP")" != "$WANTED" ]; then
  if ! "$PYTHON" -c 'import ensurepip, venv' 2>/dev/null; then MISSING+=(python3-venv); install_missing; fi
  say "Setting up Epidote in $ROOT/.venv (first start only, one to two minutes):"
  rm -f "$STAMP"
  say "  1 of 3  Python environment"
  [ -x .venv/bin/python ] && .venv/bin/python -c 'import sys' 2>/dev/null || quietly "$PYTHON" -m venv --clear .venv
  say "  2 of 3  packages, in the versions of requirements.lock"
  quietly .venv/bin/python -m pip install --disable-pip-version-check --no-compile --requirement requirements.lock
  say "  3 of 3  Epidote itself"
  quietly .venv/bin/python -m pip install --disable-pip-version-check --no-deps --no-build-isolation --editable .
  # the first start need not compile, nor those of a machine that keeps no bytecode; pip would use one processor for it,
  # and compile the packages' own tests as well
  .venv/bin/python -m compileall -q -j 0 -x '/tests?/' src .venv/lib >>"$LOG" 2>&1 || true
  rm -f "$LOG"
  printf '%s' "$WANTED" >"$STAMP"
fi
[ -s "$LOG" ] || rm -f "$LOG"
