# Sourced by demo, test and bench: installs what is missing and puts the environment's programs on PATH.
# System libraries through apt-get where this is root, otherwise the one command to type is printed.
cd "$(dirname "${BASH_SOURCE[0]}")/.."

packages=(libpulse0 libegl1 libgl1 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libglib2.0-0
  libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0
  libxcb-sync1 libxcb-xfixes0 libxcb-xinerama0 libxcb-xkb1 xauth xvfb)

python=${PYTHON:-python3}
"$python" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || {
  echo "Stone Kite needs Python 3.11 or newer; set PYTHON to it." >&2; exit 1; }
"$python" -c 'import ensurepip, venv' 2>/dev/null || packages+=(python3-venv)

if command -v dpkg-query >/dev/null; then
  missing=()
  for package in "${packages[@]}"; do
    # Names may carry a suffix (t64) on newer systems.
    status=$(dpkg-query -W -f='${Status}\n' "$package" "${package}t64" 2>/dev/null || true)
    [[ $status == *"ok installed"* ]] || missing+=("$package")
  done
  if [ ${#missing[@]} -gt 0 ]; then
    if [ "$(id -u)" = 0 ]; then
      echo "Installing system libraries: ${missing[*]}"
      apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
    else
      echo "Some system libraries are missing. Please run this, then try again:" >&2
      echo "  sudo apt-get install ${missing[*]}" >&2
      exit 1
    fi
  fi
else
  echo "This system has no dpkg; if the window does not start, install the libraries of: ${packages[*]}" >&2
fi

# A sound server for the tests that play through one; without it they are skipped.
if [ "${0##*/}" = test ] && [ "$(id -u)" = 0 ] && ! command -v pulseaudio >/dev/null && command -v apt-get >/dev/null; then
  { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends \
    pulseaudio pulseaudio-utils; } >/dev/null 2>&1 || echo "No sound server could be installed; its tests are skipped."
fi

wanted=$(cksum < pyproject.toml)
if [ "$(cat .venv/installed 2>/dev/null)" != "$wanted" ]; then
  echo "Setting up the Python environment in .venv"
  "$python" -m venv .venv
  .venv/bin/pip install --quiet --disable-pip-version-check --editable '.[dev]'
  .venv/bin/pip install --quiet --disable-pip-version-check --only-binary python-rtmidi --editable '.[midi]' 2>/dev/null ||
    echo "Knobs of real MIDI devices need python-rtmidi, which is not to be had here: there are the simulated ones."
  echo "$wanted" > .venv/installed
fi
export PATH="$PWD/.venv/bin:$PATH"
