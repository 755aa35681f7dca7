places() {
  if [ "$scope" = system ]; then
    data=/usr/local/share bin=/usr/local/bin app=/opt/$id autostart=/etc/xdg/autostart desktop=
  else
    : "${HOME:?HOME is not set}"
    # By the specification a folder that is not absolute counts as not set.
    case ${XDG_DATA_HOME-} in /*) data=$XDG_DATA_HOME ;; *) data=$HOME/.local/share ;; esac
    case ${XDG_CONFIG_HOME-} in /*) autostart=$XDG_CONFIG_HOME/autostart ;; *) autostart=$HOME/.config/autostart ;; esac
    bin=$HOME/.local/bin app=$data/$id
    desktop=$(xdg-user-dir DESKTOP 2>/dev/null) || desktop=$HOME/Desktop
    [ "$desktop" != "$HOME" ] || desktop=$HOME/Desktop
  fi
  work=$app/.installing
}
have() { command -v "$1" >/dev/null 2>&1; }
# The desktop's caches are made anew where the desktop brings the programs for it.
refresh() {
  if [ -d "$data/applications" ] && have update-desktop-database; then update-desktop-database -q "$data/applications" || :; fi
  if [ -d "$data/mime/packages" ] && have update-mime-database; then update-mime-database "$data/mime" >/dev/null 2>&1 || :; fi
  if [ -d "$data/icons/hicolor" ] && have gtk-update-icon-cache; then gtk-update-icon-cache -q -f -t "$data/icons/hicolor" || :; fi
}
# The paths of one kind in a list of what was installed: f files, d folders, c caches, m the database of file types.
each() { sed -n "s/^$1 //p" "$2" 2>/dev/null || :; }
# The name that a file waits under beside its place, and the one under which the file before waits.
fresh() { printf '%s/.%s.%s-new' "$(dirname "$1")" "$(basename "$1")" "$id"; }
former() { printf '%s/.%s.%s-old' "$(dirname "$1")" "$(basename "$1")" "$id"; }
# What is ours in the product's folder; programs may keep files of their own beside it.
parts='app launch uninstall.sh installed-files'
# Brings back what was there before an installation that did not come to its end; works from any moment on, and again.
undo() {
  if [ -e "$work/placing" ]; then
    each f "$work/list" | while IFS= read -r file; do
      if [ -e "$(former "$file")" ]; then mv -f "$(former "$file")" "$file"
      elif ! grep -Fqx "f $file" "$work/list.before"; then rm -f "$file"; fi
    done
    each f "$work/list.before" | while IFS= read -r file; do
      [ ! -e "$(former "$file")" ] || mv -f "$(former "$file")" "$file"
    done
    for part in $parts; do
      if [ -e "$work/before/$part" ]; then rm -rf "$app/$part"; mv "$work/before/$part" "$app/$part"
      elif [ ! -e "$work/new/$part" ] && ! grep -Fqx "$part" "$work/parts.before"; then rm -rf "$app/$part"; fi
    done
  fi
  each f "$work/list" | while IFS= read -r file; do rm -f "$(fresh "$file")"; done
  # Folders that were made, the innermost first; this one's own list goes with the folder that it is in.
  made=$(each d "$work/list" | sed '1!G;h;$!d')
  had=$(each d "$work/list.before")
  rm -rf "$work"
  printf '%s\n' "$made" | while IFS= read -r folder; do
    [ -z "$folder" ] || printf '%s\n' "$had" | grep -Fqx "$folder" || rmdir "$folder" 2>/dev/null || :
  done
}
# Takes away what the version before has left.
finish() {
  each f "$work/list.before" | while IFS= read -r file; do rm -f "$(former "$file")"; done
  each d "$work/list.before" | sed '1!G;h;$!d' | while IFS= read -r folder; do rmdir "$folder" 2>/dev/null || :; done
  rm -rf "$work"
}
# What an interrupted installation has left is finished if all was in place, and undone if not.
recover() {
  [ -e "$work" ] || return 0
  if [ -e "$work/placed" ]; then finish; else undo; fi
}
# Whether somebody else is at it right now.
busy() {
  other=$(cat "$work/process" 2>/dev/null) || return 1
  [ "$other" != $$ ] && kill -0 "$other" 2>/dev/null && grep -q 'install\.sh' "/proc/$other/cmdline" 2>/dev/null
}
