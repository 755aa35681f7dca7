quiet=
[ "${1-}" != --quiet ] || quiet=yes
app=$(cd -P -- "$(dirname -- "$0")" && pwd)
scope=user
[ "$app" != "/opt/$id" ] || scope=system
here=$app
places
app=$here work=$here/.installing
if [ ! -w "$app" ]; then
  echo "uninstall.sh: run this as the user who installed it" >&2
  exit 3
fi
if busy; then
  echo "uninstall.sh: $name is being installed" >&2
  exit 5
fi
recover
if [ ! -e "$app/installed-files" ]; then
  echo "uninstall.sh: nothing is installed here; run the uninstall.sh of the installed program" >&2
  exit 2
fi
# The list goes last but for folders: if this is interrupted, it can be run again.
copy=$(cat "$app/installed-files")
listed() { printf '%s\n' "$copy" | sed -n "s/^$1 //p"; }
listed f | while IFS= read -r file; do rm -f "$file"; done
rm -rf "$app/app"
rm -f "$app/launch"
listed c | while IFS= read -r file; do rm -f "$file"; done
# The database of file types is made of many files: if it was not there before, and nobody else uses it now, it goes.
listed m | while IFS= read -r folder; do
  if [ -d "$folder" ] && ! find "$folder/packages" -type f 2>/dev/null | grep -q .; then rm -rf "$folder"; fi
done
rm -f "$app/uninstall.sh" "$app/installed-files"
# Folders that were made, the innermost first, if they are empty.
listed d | sed '1!G;h;$!d' | while IFS= read -r folder; do rmdir "$folder" 2>/dev/null || :; done
# Caches that others use too are made anew without us.
if [ -e "$data/applications/mimeinfo.cache" ] && have update-desktop-database; then update-desktop-database -q "$data/applications" || :; fi
if [ -d "$data/mime/packages" ] && have update-mime-database; then update-mime-database "$data/mime" >/dev/null 2>&1 || :; fi
if [ -e "$data/icons/hicolor/icon-theme.cache" ] && have gtk-update-icon-cache; then gtk-update-icon-cache -q -f -t "$data/icons/hicolor" || :; fi
[ -n "$quiet" ] || echo "$name has been uninstalled."
