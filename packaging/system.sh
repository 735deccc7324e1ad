#!/usr/bin/env bash
# Names the system libraries that Qt's plugins need and this machine lacks; installs them where run as root on a
# Debian-like system. Usage: packaging/system.sh PYTHON [xvfb]
set -eu
python=$1
want_xvfb=${2:-}
plugins=$("$python" -c 'import PyQt6, pathlib; print(pathlib.Path(PyQt6.__file__).parent / "Qt6")')
missing=$(find "$plugins/plugins/platforms" "$plugins/lib" \( -name 'libqxcb.so' -o -name 'libqoffscreen.so' -o -name 'libQt6Gui.so.6' \
    -o -name 'libQt6Widgets.so.6' -o -name 'libQt6XcbQpa.so.6' \) -exec ldd {} + 2>/dev/null | awk '/not found/ {print $1}' | sort -u)

package_of() {
    case $1 in
    libEGL.so*) echo libegl1 ;;
    libGL.so*) echo libgl1 ;;
    libxkbcommon.so*) echo libxkbcommon0 ;;
    libxkbcommon-x11.so*) echo libxkbcommon-x11-0 ;;
    libdbus-1.so*) echo libdbus-1-3 ;;
    libfontconfig.so*) echo libfontconfig1 ;;
    libfreetype.so*) echo libfreetype6 ;;
    libglib-2.0.so* | libgthread-2.0.so*) echo libglib2.0-0 ;;
    libxcb-cursor.so*) echo libxcb-cursor0 ;;
    libxcb-icccm.so*) echo libxcb-icccm4 ;;
    libxcb-image.so*) echo libxcb-image0 ;;
    libxcb-keysyms.so*) echo libxcb-keysyms1 ;;
    libxcb-randr.so*) echo libxcb-randr0 ;;
    libxcb-render-util.so*) echo libxcb-render-util0 ;;
    libxcb-render.so*) echo libxcb-render0 ;;
    libxcb-shape.so*) echo libxcb-shape0 ;;
    libxcb-shm.so*) echo libxcb-shm0 ;;
    libxcb-sync.so*) echo libxcb-sync1 ;;
    libxcb-util.so*) echo libxcb-util1 ;;
    libxcb-xfixes.so*) echo libxcb-xfixes0 ;;
    libxcb-xkb.so*) echo libxcb-xkb1 ;;
    libX11-xcb.so*) echo libx11-xcb1 ;;
    libX11.so*) echo libx11-6 ;;
    libxcb.so*) echo libxcb1 ;;
    *) echo "" ;;
    esac
}

# Runs a command of the package manager; while another one has its lock, up to ten minutes, it is tried again.
patiently() {
    local tries told
    for tries in $(seq 120); do
        if told=$("$@" 2>&1); then return 0; fi
        case $told in *lock*) ;; *) break ;; esac
        [ "$tries" -gt 1 ] || echo "Waiting for the package manager, which is busy"
        sleep 5
    done
    echo "$told" | tail -n 20 >&2
    return 1
}

packages=""
unknown=""
for library in $missing; do
    package=$(package_of "$library")
    if [ -n "$package" ]; then packages="$packages $package"; else unknown="$unknown $library"; fi
done
if [ "$want_xvfb" = xvfb ] && ! command -v Xvfb >/dev/null; then packages="$packages xvfb"; fi
# A source's own Python runs in a sandbox of bubblewrap's. Hawser works without it, and says what that means.
if ! command -v bwrap >/dev/null; then
    if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
        packages="$packages bubblewrap"
    else
        echo "For Python of your own in sources, install bubblewrap: sudo apt-get install bubblewrap" >&2
    fi
fi
if [ -n "$unknown" ]; then
    echo "Hawser needs system libraries that this machine lacks:$unknown" >&2
    exit 1
fi
[ -z "$packages" ] && exit 0
packages=$(echo "$packages" | tr ' ' '\n' | sort -u | tr '\n' ' ')
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
    echo "Installing system libraries: $packages"
    export DEBIAN_FRONTEND=noninteractive
    patiently apt-get update -qq
    # shellcheck disable=SC2086  # a list of names
    patiently apt-get install -y -qq --no-install-recommends $packages
else
    echo "Hawser needs these Debian packages: $packages" >&2
    echo "Install them with: sudo apt-get install $packages" >&2
    exit 1
fi
