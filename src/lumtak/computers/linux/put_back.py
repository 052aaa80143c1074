"""What stands beside the undo scripts, so that a change is put back by its number.

One file, the same for all who leave scripts there; a name that can be said over the phone.
"""

import re

PUT_BACK = "put-back"
_SPELT = re.compile(r"[A-Za-z0-9._/-]+")

BY_NUMBER = rb"""#!/bin/sh
# Puts back what was changed on this computer, by the numbers on the sheet:
#     sh put-back list    says what stands changed
#     sh put-back 4       puts change 4 back
#     sh put-back all     puts everything back
# It needs nothing but a shell; the scripts beside it (undo-*.sh) do the work.

set -u
case $0 in */*) here=${0%/*} ;; *) here=. ;; esac
asked=list wanted='' folder=''
for word in "$@"; do
    case $word in
    list | all) asked=$word ;;
    */*) folder=$word ;;
    '' | *[!0-9]*)
        echo 'Say a number, or list, or all; for example: sh put-back 4' >&2
        exit 2
        ;;
    *) wanted="$wanted $word" ;;
    esac
done
numbers_in() { # SCRIPT
    sed -n "s/^numbers='\([0-9 ]*\)' of_root='\([0-9 ]*\)'\$/ \1 \2 /p" "$1"
}
worst=0
run() { # SCRIPT WORDS
    sh "$@" ${folder:+"$folder"} || {
        status=$?
        [ "$worst" -ge "$status" ] || worst=$status
    }
}

if [ -z "$wanted" ]; then
    any=
    for script in "$here"/undo-*.sh; do
        [ -f "$script" ] || continue
        any=1
        if grep -q "^numbers='" "$script"; then
            run "$script" "$asked"
        elif [ "$asked" = all ]; then
            run "$script"
        else
            printf 'Older changes, without numbers, are put back by: sh %s\n' "$script"
        fi
    done
    [ -n "$any" ] || echo 'Nothing stands changed by Lumtak.'
    exit "$worst"
fi

# Every number has to be known to one script, before anything is done.
for number in $wanted; do
    found=0
    for script in "$here"/undo-*.sh; do
        [ -f "$script" ] || continue
        case $(numbers_in "$script") in *" $number "*) found=$((found + 1)) ;; esac
    done
    if [ "$found" = 0 ]; then
        printf 'No change %s stands on this computer. To see which do: sh %s list\n' \
            "$number" "$0" >&2
        exit 2
    elif [ "$found" -gt 1 ]; then
        printf 'Two shops left a change %s here. Type the one that is meant:\n' "$number" >&2
        for script in "$here"/undo-*.sh; do
            case $(numbers_in "$script") in
            *" $number "*) printf '    sh %s %s\n' "$script" "$number" >&2 ;;
            esac
        done
        exit 2
    fi
done
for script in "$here"/undo-*.sh; do
    [ -f "$script" ] || continue
    mine=
    for number in $wanted; do
        case $(numbers_in "$script") in *" $number "*) mine="$mine $number" ;; esac
    done
    # shellcheck disable=SC2086 # they are words
    [ -z "$mine" ] || run "$script" $mine
done
exit "$worst"
"""


def in_home(path: str, home: str) -> str:
    """A path as it is typed in a shell: from the home folder where it is in there.

    Names that hold what a shell takes otherwise are quoted.
    """
    rest = path.removeprefix(f"{home.rstrip('/')}/")
    if rest != path and _SPELT.fullmatch(rest):
        return f"~/{rest}"
    return path if _SPELT.fullmatch(path) else "'" + path.replace("'", "'\\''") + "'"
