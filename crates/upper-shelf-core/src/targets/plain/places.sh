places() {
  if [ "$scope" = system ]; then
    data=/usr/local/share bin=/usr/local/bin app=/opt/$id autostart=/etc/xdg/autostart desktop=
  else
    : "${HOME:?HOME is not set}"
    data=${XDG_DATA_HOME:-$HOME/.local/share} bin=$HOME/.local/bin app=${XDG_DATA_HOME:-$HOME/.local/share}/$id
    autostart=${XDG_CONFIG_HOME:-$HOME/.config}/autostart
    desktop=$(xdg-user-dir DESKTOP 2>/dev/null) || desktop=$HOME/Desktop
    [ "$desktop" != "$HOME" ] || desktop=$HOME/Desktop
  fi
}
have() { command -v "$1" >/dev/null 2>&1; }
# The desktop's caches are made anew where the desktop brings the programs for it.
refresh() {
  if [ -d "$data/applications" ] && have update-desktop-database; then update-desktop-database -q "$data/applications" || :; fi
  if [ -d "$data/mime/packages" ] && have update-mime-database; then update-mime-database "$data/mime" >/dev/null 2>&1 || :; fi
  if [ -d "$data/icons/hicolor" ] && have gtk-update-icon-cache; then gtk-update-icon-cache -q -f -t "$data/icons/hicolor" || :; fi
}
