"""What the undo scripts call to put back what was set aside. Sent with the hand.

Nothing is started where the shell can do it itself: two thousand pieces, each from a folder of its
own, go back in a few seconds. Sources: proc(5), fdinfo and mountinfo; POSIX.1-2024, test.
"""

ASIDE = """
aside_is() { # FOLDER SHA256: something is held under this list, or was begun
    [ -e "$root$1/aside-$(printf %.16s "$2").json" ]
}
aside_back() { # FOLDER SHA256
    aside_is "$@" || return 0
    aside=$root$1/aside/$(printf %.16s "$2") note=$root$1/aside-$(printf %.16s "$2").json
    if [ ! -e "$aside/list" ] && [ -z "$(ls -A "$aside/held" 2>/dev/null)" ]; then
        aside_clear
        return 0
    fi
    if [ "$(sha256sum <"$aside/list" | cut -c 1-64)" != "$2" ]; then
        echo 'The list of what was set aside is not the one that was recorded; nothing was moved.'
        return 1
    fi
    cd -P -- "$aside/held" || return 1
    nth=0 stuck=0 last= again= mount= inode= device=
    aside_where
    mounted=$mount
    aside_told || device=$(stat -c %d .)
    if [ -e "$aside/back" ]; then
        again=y
    elif ! { touch -c "$aside/wait" && mv -nT -- "$aside/wait" "$aside/back" &&
        [ -e "$aside/back" ]; } 2>/dev/null; then
        : >"$aside/back"
    fi
    while read -r kind inode_then above changed above_changed _ _ place; do
        case $kind in [fdl]) ;; *) continue ;; esac
        nth=$((nth + 1)) held=$aside/held/$nth here=y
        # With a ~ a folder of which a part may be deleted already.
        [ -e "$held" ] || [ -L "$held" ] || held=$held~
        [ -e "$held" ] || [ -L "$held" ] || here=
        [ -n "$here$again" ] || continue
        # A dot keeps line ends at the end of a name.
        case $place in *\\\\*) place=$(printf '%b.' "$place") place=${place%.} ;; esac
        if [ "$last" != "$above" ]; then
            aside_leave
            # The folder is held by standing in it: whoever exchanges it is too late.
            if ! aside_enter "$root${place%/*}" 2>/dev/null || ! aside_stands; then
                cd / && last= stuck=$((stuck + 1))
                printf 'its folder is another one now: %s\\n' "$place"
                continue
            fi
            last=$above when=$above_changed was=
            # Who changed the folder since keeps the time of that, unless that was this script.
            if [ -e "$aside/ended" ] && [ . -nt "$aside/ended" ] &&
                { [ -z "$again" ] || [ "$aside/back" -nt . ]; }; then
                was=$(stat -c %y .)
            fi
        fi
        [ -n "$here" ] || continue
        name=./${place##*/}
        if [ -e "$name" ] || [ -L "$name" ] || ! mv -nT -- "$held" "$name" ||
            [ -e "$held" ] || [ -L "$held" ]; then
            stuck=$((stuck + 1))
            printf 'something stands there: %s\\n' "$place"
        elif [ "$kind" = d ]; then
            touch -c -d "@$changed" -- "$name" 2>/dev/null
        fi
    done <"$aside/list"
    aside_leave
    cd / && [ "$stuck" = 0 ] && aside_clear
}
aside_enter() { # FOLDER, step by step where it is longer than a system takes at once
    if [ ${#1} -lt 900 ]; then
        cd -P -- "$1/"
        return
    fi
    cd / && way=${1#/}
    while [ -n "$way" ]; do
        cd -P -- "./${way%%/*}" || [ -z "${way%%/*}" ] || return 1
        case $way in */*) way=${way#*/} ;; *) way= ;; esac
    done
}
aside_where() { # the inode stood in, and its mount, as the system tells about what is open
    inode= mount=
    { exec 9<.; } 2>/dev/null || return 0
    while read -r said value; do
        case $said in ino:) inode=$value ;; mnt_id:) mount=$value ;; esac
    done </proc/self/fdinfo/9
    exec 9<&-
}
aside_told() { # it tells both, and no mount of this kind is of several devices
    [ -n "$inode" ] && [ -n "$mount" ] && while read -r there _ _ _ _ options; do
        [ "$there" != "$mount" ] || case " ${options##* - } " in
        ' ext'[234]' '* | ' xfs '* | ' tmpfs '* | ' f2fs '*) return 0 ;;
        *) return 1 ;;
        esac
    done </proc/self/mountinfo && false
}
aside_stands() { # the folder stood in is the one that a piece stood in
    if [ -n "$device" ]; then
        [ "$(stat -c %d:%i .)" = "$device:$above" ]
    else
        aside_where
        [ "$mount:$inode" = "$mounted:$above" ]
    fi
}
aside_leave() { # the folder stood in gets the time of its last change back
    [ -z "$last" ] || if [ -z "$was" ]; then
        touch -c -d "@$when" . 2>/dev/null
    else
        touch -c -d "$was" . 2>/dev/null
    fi || :
}
aside_clear() {
    rm -f "$aside/list" "$aside/ended" "$aside/wait" "$aside/back" &&
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
