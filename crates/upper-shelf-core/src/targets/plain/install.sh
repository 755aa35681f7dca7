usage="usage: ./install.sh [--user | --system]
  --user    for you alone (the usual way unless you are root)
  --system  for everyone on this machine (as root)"
scope=user
[ "$(id -u)" != 0 ] || scope=system
for argument in "$@"; do
  case $argument in
    --user) scope=user ;;
    --system) scope=system ;;
    --help) echo "$usage"; exit 0 ;;
    *) echo "install.sh: unknown: $argument" >&2; echo "$usage" >&2; exit 2 ;;
  esac
done
here=$(cd "$(dirname "$0")" && pwd)
places
if [ "$scope" = system ] && [ "$(id -u)" != 0 ]; then
  echo "install.sh: --system needs root: sudo ./install.sh --system" >&2
  exit 3
fi
# An older version goes first; what it had and this one has not must not stay.
if [ -x "$app/uninstall.sh" ]; then
  "$app/uninstall.sh" --quiet || { echo "install.sh: the installed version could not be removed" >&2; exit 4; }
fi
list=
note() { printf '%s\n' "$1" >> "$list"; }
# Makes a folder with its parents and writes down those that were not there.
make() {
  [ -d "$1" ] && return
  make "$(dirname "$1")"
  mkdir "$1"
  if [ -n "$list" ]; then note "d $1"; else first="$first
d $1"; fi
}
first=
make "$app"
list=$app/installed-files
printf '%s\n' "$first" | sed '/^$/d' > "$list"
failed() {
  echo "install.sh: $name could not be installed; what was done is taken back" >&2
  cp "$here/uninstall.sh" "$app/uninstall.sh" 2>/dev/null && sh "$app/uninstall.sh" --quiet || :
  exit 4
}
trap failed EXIT
for cache in "$data/applications/mimeinfo.cache" "$data/icons/hicolor/icon-theme.cache"; do
  [ -e "$cache" ] || note "c $cache"
done
[ -d "$data/mime" ] || note "m $data/mime"
cp -RP "$here/app" "$app/app"
cp "$here/launch" "$here/uninstall.sh" "$app/"
# A path as the right side of a replacement, and as a quoted word of a desktop entry.
launch=$(printf '%s' "$app/launch" | sed 's/[\\"`$]/\\\\&/g; s/[&|\\]/\\&/g')
put() {
  [ ! -e "$2" ] || { echo "install.sh: $2 is there already, and is not ours" >&2; exit 4; }
  make "$(dirname "$2")"
  note "f $2"
  case $1 in
    *.desktop) sed "s|^Exec=launch |Exec=\"$launch\" |" "$1" > "$2" ;;
    *) cp "$1" "$2" ;;
  esac
  chmod 644 "$2"
}
cd "$here/share"
for file in $(find applications icons mime metainfo -type f 2>/dev/null | sort); do put "$file" "$data/$file"; done
for file in $(find autostart -type f 2>/dev/null | sort); do put "$file" "$autostart/${file##*/}"; done
for file in $(find desktop -type f 2>/dev/null | sort); do
  [ -z "$desktop" ] || put "$file" "$desktop/${file##*/}"
  [ -z "$desktop" ] || chmod 755 "$desktop/${file##*/}"
done
quoted=$(printf '%s' "$app/launch" | sed "s/'/'\\\\''/g")
for key in $main $others; do
  link=$bin/$command
  [ "$key" = "$main" ] || link=$bin/$command-$key
  [ ! -e "$link" ] || { echo "install.sh: $link is there already, and is not ours" >&2; exit 4; }
  make "$bin"
  note "f $link"
  printf "#!/bin/sh\nexec '%s' --start=%s \"\$@\"\n" "$quoted" "$key" > "$link"
  chmod 755 "$link"
done
trap - EXIT
refresh
echo "$name $version is installed: start it from the menu, or with $bin/$command"
echo "To remove it: $app/uninstall.sh"
