usage="usage: ./install.sh [--user | --system]
  --user    for you only (the default, unless you are root)
  --system  for all users of this machine (as root)"
scope=user
[ "$(id -u)" != 0 ] || scope=system
for argument in "$@"; do
  case $argument in
    --user) scope=user ;;
    --system) scope=system ;;
    --help) echo "$usage"; exit 0 ;;
    *) echo "install.sh: unknown option: $argument" >&2; echo "$usage" >&2; exit 2 ;;
  esac
done
here=$(cd -P -- "$(dirname -- "$0")" && pwd)
places
if [ "$scope" = system ] && [ "$(id -u)" != 0 ]; then
  echo "install.sh: --system requires root: sudo ./install.sh --system" >&2
  exit 3
fi
if busy; then
  echo "install.sh: $name is already being installed or removed" >&2
  exit 5
fi
recover

# Everything is brought close to its place before anything is changed; then names change, and nothing else.
folders=
above() {
  [ ! -d "$1" ] || return 0
  above "$(dirname "$1")"
  folders="$folders
d $1"
  mkdir "$1"
}
above "$app"
mkdir "$work"
give_up() {
  code=$?
  trap '' INT TERM HUP
  trap - EXIT
  echo "install.sh: $name could not be installed; nothing has been changed" >&2
  undo
  [ "$code" -gt 128 ] || code=4
  exit "$code"
}
trap give_up EXIT
trap 'exit 130' INT
trap 'exit 143' TERM
trap 'exit 129' HUP
echo $$ > "$work/process"
list=$work/list
note() { printf '%s\n' "$1" >> "$list"; }
before=$app/installed-files
if [ -e "$before" ]; then cat "$before" > "$work/list.before"; else : > "$work/list.before"; fi
printf '%s\n' "$folders" | sed '/^$/d' > "$list"
# What the version before has made besides files is this one's to take away.
sed -n '/^[dcm] /p' "$work/list.before" >> "$list"
for cache in "$data/applications/mimeinfo.cache" "$data/icons/hicolor/icon-theme.cache"; do
  [ -e "$cache" ] || note "c $cache"
done
[ -d "$data/mime" ] || note "m $data/mime"
mkdir "$work/new" "$work/before"
cp -RP "$here/app" "$work/new/app"
cp "$here/launch" "$here/uninstall.sh" "$work/new/"
# Whoever unpacked this may have kept it from others.
chmod -R a+rX,u+w,go-w "$work/new"
chmod 755 "$work/new/launch" "$work/new/uninstall.sh"
# Makes a folder with its parents and writes down those that were not there.
make() {
  [ -d "$1" ] && return
  make "$(dirname "$1")"
  note "d $1"
  mkdir "$1"
}
ours() {
  [ ! -e "$1" ] || grep -Fqx "f $1" "$work/list.before" ||
    { echo "install.sh: $1 already exists, and belongs to something else" >&2; exit 4; }
}
# Lays a file beside its place: standard input, mode, place.
lay() {
  ours "$2"
  make "$(dirname "$2")"
  note "f $2"
  cat > "$(fresh "$2")"
  chmod "$1" "$(fresh "$2")"
}
# A path as the right side of a replacement, and as a quoted word of a desktop entry.
launch=$(printf '%s' "$app/launch" | sed 's/[\\"`$]/\\\\&/g; s/[&|\\]/\\&/g')
put() {
  mode=644
  [ -z "${3-}" ] || mode=$3
  case $1 in
    *.desktop) sed "s|^Exec=launch |Exec=\"$launch\" |" "$1" | lay "$mode" "$2" ;;
    *) lay "$mode" "$2" < "$1" ;;
  esac
}
cd "$here/share"
find applications icons mime metainfo autostart desktop -type f 2>/dev/null | sort > "$work/share"
while IFS= read -r file; do
  case $file in
    autostart/*) put "$file" "$autostart/${file##*/}" ;;
    desktop/*) [ -z "$desktop" ] || put "$file" "$desktop/${file##*/}" 755 ;;
    *) put "$file" "$data/$file" ;;
  esac
done < "$work/share"
quoted=$(printf '%s' "$app/launch" | sed "s/'/'\\\\''/g")
printf '%s\n' "$commands" | sed '/^$/d' > "$work/commands"
while IFS= read -r line; do
  printf "#!/bin/sh\nexec '%s' --start=%s \"\$@\"\n" "$quoted" "${line#*=}" | lay 755 "$bin/${line%%=*}"
done < "$work/commands"
printf '%s\n' "$shell_files" | sed '/^$/d' > "$work/shell"
while IFS= read -r line; do
  lay 644 "$data/${line%%=*}" < "$here/app/${line#*=}"
done < "$work/shell"
# Sorted, a folder comes before what is in it.
LC_ALL=C sort -u "$list" > "$work/new/installed-files"
for part in $parts; do [ ! -e "$app/$part" ] || echo "$part"; done > "$work/parts.before"

# From here on names change; whatever happens, the next run of this or of uninstall.sh knows how to go back.
: > "$work/placing"
for part in $parts; do
  [ ! -e "$app/$part" ] || mv "$app/$part" "$work/before/$part"
  mv "$work/new/$part" "$app/$part"
done
each f "$work/list.before" | while IFS= read -r file; do
  [ ! -e "$file" ] || mv -f "$file" "$(former "$file")"
done
each f "$list" | while IFS= read -r file; do mv -f "$(fresh "$file")" "$file"; done
# It is installed.
mv "$work/placing" "$work/placed"
trap '' INT TERM HUP
trap - EXIT
finish
refresh
command=$(printf '%s\n' "$commands" | sed -n '1s/=.*//p')
if [ -n "$command" ]; then echo "$name $version has been installed: start it from the menu, or with $bin/$command"
else echo "$name $version has been installed: start it from the menu"; fi
echo "To uninstall it: $app/uninstall.sh"
