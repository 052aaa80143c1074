"""What the undo scripts call to put a file or link of a user back. Sent with the hand."""

FILES = """
# What stands at $file, compared with what is asked for.
absent() { [ ! -e "$file" ] && [ ! -L "$file" ]; }
holds() { # MODE, and the bytes on standard input
    [ -f "$file" ] && [ ! -L "$file" ] && [ -n "$(find "$file" -prune -perm "$1")" ] &&
        cmp -s - "$file"
}
points_to() { [ -L "$file" ] && [ "$(readlink "$file" && printf x)" = "$1${newline}x" ]; }

# Ways to bring $file back; the new file is whole before it takes the old one's place.
replace() { # MODE, and the bytes on standard input
    mkdir -p "$folder" && rm -f "$new" && (set -C && cat >"$new") && chmod "$1" "$new" || return 1
    # What was replaced is kept: it goes back itself, with all that belongs to it.
    if [ -f "$kept" ] && [ ! -L "$kept" ] && [ -n "$(find "$kept" -prune -perm "$1")" ] &&
        cmp -s "$kept" "$new"; then
        mv -f "$kept" "$file" && rm -f "$kept" "$new"
    else
        mv -f "$new" "$file"
    fi
}
relink() { # TARGET
    if [ -L "$kept" ] && [ "$(readlink "$kept" && printf x)" = "$1${newline}x" ]; then
        mv -f "$kept" "$file"
        return
    fi
    mkdir -p "$folder" && rm -f "$new" && ln -s "$1" "$new" && mv -f "$new" "$file"
}
kept_goes() { # where the same stands in its place
    if [ -L "$kept" ]; then
        [ "$(readlink "$kept" && printf x)" != "$(readlink "$file" && printf x)" ] || rm -f "$kept"
    elif [ -f "$kept" ]; then
        ! cmp -s "$kept" "$file" || rm -f "$kept"
    fi
}
unmake() { # FOLDER goes where it is empty; the one above keeps the time of its last change
    was=$(stat -c %y "${1%/*}/" 2>/dev/null)
    rmdir "$1" 2>/dev/null && { touch -c -d "$was" "${1%/*}/" 2>/dev/null || :; }
}
shed() { # COUNT folders that were not there before, from $folder upwards, as far as they are empty
    count=$1 empty=$folder
    [ -z "$look" ] || return 0
    while [ "$count" -gt 0 ] && { [ ! -d "$empty" ] || unmake "$empty"; }; do
        empty=${empty%/*} count=$((count - 1))
    done
}
at() {
    file=$1 folder=${1%/*} new=${1%/*}/$2
    kept=${new%.new}.was
    [ -n "$look" ] || rm -f "$new"
}
"""
