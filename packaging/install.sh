#!/bin/sh
# Installs what lies beside this script: programs, man pages and completions under /usr/local, settings under /etc, a unit
# for systemd.
#
#   ./install.sh            installs, or takes the place of the version before; settings that are there stay
#   ./install.sh --remove   removes the programs; settings, records and recordings stay
set -eu
here=$(cd "$(dirname "$0")" && pwd)
prefix=/usr/local
unit=/etc/systemd/system/waverantd.service
marks=$prefix/share/waverant/installed

say() { printf '%s\n' "install.sh: $*" >&2; }
[ "$(id -u)" -eq 0 ] || {
  say "this writes to $prefix and /etc: run it as root"
  exit 2
}
has_systemd() { [ -d /run/systemd/system ]; }

# Removes the files of a list that is there, but not those that another list has too.
remove_listed() {
  [ -f "$1" ] || return 0
  while IFS= read -r file; do
    grep -qxF -- "$file" "${2:-/dev/null}" || rm -f -- "$file"
  done <"$1"
}

case "${1-}" in
  "") ;;
  --remove)
    has_systemd && systemctl disable --now waverantd.service || true
    remove_listed "$marks"
    rm -rf "$prefix/share/waverant" "$unit"
    has_systemd && systemctl daemon-reload || true
    say "removed; /etc/waverant and /var/lib/waverant are left, recordings among them"
    exit 0
    ;;
  *)
    sed -n '2,6s/^# \{0,1\}//p' "$0" >&2
    exit 2
    ;;
esac

for program in mariadbd mariadb-install-db setpriv; do
  command -v "$program" >/dev/null 2>&1 || [ -x "/usr/sbin/$program" ] || {
    say "$program is not installed, and the private database needs it (packages of MariaDB's server, and util-linux);"
    say "without it give waverantd a server of yours: database.url in /etc/waverant/waverant.toml"
  }
done
"$here/usr/bin/waverantd" --version >/dev/null 2>&1 || {
  say "the programs do not run on this machine ($(uname -m)); look at \`ldd $here/usr/bin/waverantd\`, or build from source"
  exit 1
}
if ! getent passwd waverant >/dev/null; then
  if command -v systemd-sysusers >/dev/null 2>&1; then
    systemd-sysusers "$here/waverant.sysusers"
  else
    useradd --system --user-group --home-dir /var/lib/waverant --no-create-home --shell /usr/sbin/nologin waverant
  fi
fi
install -d -m 700 -o waverant -g waverant /var/lib/waverant

mkdir -p "$prefix/share/waverant"
(cd "$here/usr" && find . -type f | sed "s|^\.|$prefix|" | sort) >"$marks.new"
(cd "$here/usr" && find . -type f) | while IFS= read -r file; do
  mode=644
  case "$file" in ./bin/*) mode=755 ;; esac
  # A program that runs is not written over, another takes its name.
  install -D -m "$mode" "$here/usr/$file" "$prefix/$file.new"
  mv -f "$prefix/$file.new" "$prefix/$file"
done
remove_listed "$marks" "$marks.new"
mv -f "$marks.new" "$marks"
for beside in licences.txt sbom.cdx.json LICENSE-APACHE LICENSE-MIT low-ports.conf; do
  install -m 644 "$here/$beside" "$prefix/share/waverant/$beside"
done
if [ -e /etc/waverant/waverant.toml ]; then
  cmp -s "$here/etc/waverant/waverant.toml" /etc/waverant/waverant.toml ||
    say "your settings are kept; those of this version are in $prefix/share/waverant/waverant.toml"
else
  install -D -m 644 "$here/etc/waverant/waverant.toml" /etc/waverant/waverant.toml
fi
install -m 644 "$here/etc/waverant/waverant.toml" "$prefix/share/waverant/waverant.toml"
if [ -d /etc/systemd/system ]; then
  sed "s|^ExecStart=/usr/bin/|ExecStart=$prefix/bin/|" "$here/waverantd.service" >"$unit"
fi
if has_systemd; then
  systemctl daemon-reload
  systemctl enable waverantd.service
  systemctl restart waverantd.service
  say "installed and started; \`journalctl -u waverantd\` has the one-time code for the first administrator"
else
  say "installed; start it as the user waverant: $prefix/bin/waverantd"
fi
