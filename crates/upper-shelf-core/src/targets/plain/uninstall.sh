quiet=
[ "${1-}" != --quiet ] || quiet=yes
app=$(cd "$(dirname "$0")" && pwd)
list=$app/installed-files
if [ ! -e "$list" ]; then
  echo "uninstall.sh: nothing is installed here; the installed program has its own uninstall.sh" >&2
  exit 2
fi
scope=user
[ "$app" != "/opt/$id" ] || scope=system
here=$app
places
app=$here
if [ ! -w "$(dirname "$app")" ]; then
  echo "uninstall.sh: this needs the rights of whoever installed it" >&2
  exit 3
fi
copy=$(cat "$list")
each() { printf '%s\n' "$copy" | sed -n "s/^$1 //p"; }
each f | while IFS= read -r file; do rm -f "$file"; done
rm -rf "$app/app"
rm -f "$app/launch" "$app/uninstall.sh" "$list"
each c | while IFS= read -r file; do rm -f "$file"; done
# The database of file types is made of many files: if it was not there before, and nobody else uses it now, it goes.
each m | while IFS= read -r folder; do
  if [ -d "$folder" ] && ! find "$folder/packages" -type f 2>/dev/null | grep -q .; then rm -rf "$folder"; fi
done
# Folders that were made, the innermost first, if they are empty.
each d | sed '1!G;h;$!d' | while IFS= read -r folder; do rmdir "$folder" 2>/dev/null || :; done
# Caches that others use too are made anew without us.
if [ -e "$data/applications/mimeinfo.cache" ] && have update-desktop-database; then update-desktop-database -q "$data/applications" || :; fi
if [ -d "$data/mime/packages" ] && have update-mime-database; then update-mime-database "$data/mime" >/dev/null 2>&1 || :; fi
if [ -e "$data/icons/hicolor/icon-theme.cache" ] && have gtk-update-icon-cache; then gtk-update-icon-cache -q -f -t "$data/icons/hicolor" || :; fi
[ -n "$quiet" ] || echo "$name is removed."
