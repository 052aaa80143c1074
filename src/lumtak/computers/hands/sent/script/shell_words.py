"""What an undo script is called with, and what it says of each change.

One file of the standard library, in the language of Python 3.8, for it is sent with the hand.
"""

from __future__ import annotations

WORDS = """
# Numbers put those changes back, `list` says what stands, `all` or nothing puts everything back.
# With --look nothing is touched: it is only said what is as it was left, and what is not.
look='' list='' wanted='' root=''
while [ "$#" -gt 0 ]; do
    case $1 in
    --look) look=1 ;;
    list) look=1 list=1 ;;
    all) wanted= ;;
    '' | *[!0-9]*) root=$1 ;;
    *) wanted="$wanted $1 " ;;
    esac
    shift
done
for number in $wanted; do
    case " $numbers $of_root " in
    *" $number "*) ;;
    *)
        printf 'There is no change %s in here; with the word list it says which there are.\\n' \\
            "$number" >&2
        exit 2
        ;;
    esac
done
"""
COUNTERS = """
newline='
'
back=0 left=0 failed=0
way() { # NUMBER WORD NEWER: one way back of a setting, to before that change and the newer ones
    number=$1 word=$2 along=$3
    case $wanted in '' | *" $1 "*) return 0 ;; esac
    return 1
}
stands() { printf 'as it was left: %s\\n' "$title"; }
already() { back=$((back + 1)); printf 'as it was already: %s\\n' "$title"; }
done_now() { back=$((back + 1)); printf 'put back: %s\\n' "$title"; }
leave() { left=$((left + 1)); printf 'left alone, somebody changed it since: %s\\n' "$title"; }
failed() { failed=$((failed + 1)); printf 'FAILED: %s\\n' "$title"; }
[ -z "$wanted" ] || {
    say() { printf 'Change %s %s: %s %s.\\n' "$number${along:+ (with $along)}" "$1" "$title" "$2"; }
    already() { back=$((back + 1)) && say 'was put back already' "is $word"; }
    done_now() { back=$((back + 1)) && say 'is put back and read back' "is $word again"; }
    leave() { left=$((left + 1)) && say 'is left alone' 'was changed by somebody else since'; }
    failed() { failed=$((failed + 1)) && say 'could NOT be put back' "is not $word again"; }
}
[ -z "$look" ] || {
    already() { printf 'back as before: %s\\n' "$title"; }
    leave() { printf 'drifted: %s\\n' "$title"; }
}
[ -z "$list" ] || {
    row() { printf '%6s  %s, before: %s; now: %s\\n' "$number" "$title" "$word" "$1"; }
    stands() { row "as Lumtak left it${along:+ (with $along, which came after)}"; }
    already() { row 'put back'; }
    leave() { row 'somebody changed it since'; }
}
"""
