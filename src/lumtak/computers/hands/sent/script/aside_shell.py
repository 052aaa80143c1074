"""What the undo scripts call to put back what was set aside. Sent with the hand."""

ASIDE = """
aside_is() { # FOLDER SHA256: something is held under this list, or was begun
    [ -e "$root$1/aside-$(printf %.16s "$2").json" ]
}
aside_back() { # FOLDER SHA256
    aside_is "$@" || return 0
    aside=$root$1/aside/$(printf %.16s "$2") note=$root$1/aside-$(printf %.16s "$2").json
    if grep -q '"phase": "emptying"' "$note"; then
        echo 'It was being emptied: what is deleted cannot be put back.'
        return 1
    fi
    if [ ! -e "$aside/list" ] && [ -z "$(ls -A "$aside/held" 2>/dev/null)" ]; then
        aside_clear
        return 0
    fi
    if [ "$(sha256sum <"$aside/list" | cut -c 1-64)" != "$2" ]; then
        echo 'The list of what was set aside is not the one that was recorded; nothing was moved.'
        return 1
    fi
    device=$(stat -c %d "$aside/held") number=0 stuck=0 last= again=
    if [ -e "$aside/back" ]; then again=y; else : >"$aside/back"; fi
    while read -r kind inode above changed above_changed _ _ place; do
        case $kind in [fdl]) ;; *) continue ;; esac
        number=$((number + 1)) held=$aside/held/$number
        here=y
        [ -e "$held" ] || [ -L "$held" ] || here=
        [ -n "$here$again" ] || continue
        # A dot keeps line ends at the end of a name.
        case $place in *\\\\*) place=$(printf '%b.' "$place") place=${place%.} ;; esac
        if [ "$last" != "$above" ]; then
            aside_leave
            # The folder is held by standing in it: whoever exchanges it is too late.
            cd -P -- "$root${place%/*}/" 2>/dev/null &&
                [ "$(stat -c %d:%i .)" = "$device:$above" ] || {
                cd / && last= stuck=$((stuck + 1))
                printf 'its folder is another one now: %s\n' "$place"
                continue
            }
            last=$above when=$above_changed was=$(stat -c %y .)
            # Who changed the folder since keeps the time of that, unless that was this script.
            if [ -e "$aside/ended" ] && [ -n "$(find . -prune -newer "$aside/ended")" ] &&
                { [ -z "$again" ] || [ -n "$(find "$aside/back" -newer .)" ]; }; then
                when=
            fi
        fi
        [ -n "$here" ] || continue
        name=./${place##*/}
        if [ -e "$name" ] || [ -L "$name" ] || ! mv -nT -- "$held" "$name" ||
            [ -e "$held" ] || [ -L "$held" ]; then
            stuck=$((stuck + 1))
            printf 'something stands there: %s\n' "$place"
        elif [ "$kind" = d ]; then
            touch -c -d "@$changed" -- "$name" 2>/dev/null
        fi
    done <"$aside/list"
    aside_leave
    cd / && [ "$stuck" = 0 ] && aside_clear
}
aside_leave() { # the folder stood in gets the time of its last change back
    [ -z "$last" ] || if [ -n "$when" ]; then
        touch -c -d "@$when" . 2>/dev/null
    else
        touch -c -d "$was" . 2>/dev/null
    fi || :
}
aside_clear() {
    rm -f "$aside/list" "$aside/ended" "$aside/back" &&
        { rmdir "$aside/held" "$aside" 2>/dev/null || :; } && rm -f "$note" &&
        aside_tidy "${note%/*}"
}
aside_tidy() { # FOLDER goes where nothing is held; the one above keeps the time of its last change
    [ -d "$1" ] || return 0
    was=$(stat -c %y "${1%/*}/")
    rmdir "$1/aside" 2>/dev/null
    ! rmdir "$1" 2>/dev/null || touch -c -d "$was" "${1%/*}/" 2>/dev/null || :
}
"""
