# The part of a change that touches files, always beside latch.sh. A user who may write a folder may put anything into the place of
# what is in it, at any moment. So nothing is done there by path: we stand in the folder itself, which nobody can swap, and
# what we make, copy or look into lies in a place of root's own; a file comes from there, whole, by a rename.
most=4194304
rows() { # rows there|back FUNCTION: for every row of the table; on the way there the first that fails ends it
    list=$change/table
    [ "$1" = there ] || list=$change/table.back
    while read -r number bk bm bu bg bs ak am au ag as path; do
        folder=${path%/*} name=${path##*/}
        folder=${folder:-/}
        vault=$(of_row vaults)
        staged=$vault/$number
        ! is_nested || staged=$(nested)
        "$2" || [ "$1" = back ] || return 1
    done <"$list"
}
row_of() { # the number of a path's own row
    awk -v wanted="$1" '{ path = $0; for (i = 0; i < 11; i++) sub("^[^ ]* ", "", path); if (path == wanted) print $1 }' "$change/table"
}
of_row() { awk -v row="$number" '$1 == row { sub("^[^ ]* ", ""); print }' "$change/$1" 2>/dev/null; } # of_row FILE: what it says of this row
comes_or_goes() { # comes_or_goes PATH KIND...: whether this change makes a folder, or takes it away
    awk -v wanted="$1" -v side="$2" '{ path = $0; for (i = 0; i < 11; i++) sub("^[^ ]* ", "", path)
        if (path == wanted && ((side != "goes" && $2 == "absent") || (side != "comes" && $7 == "absent"))) found = 1 } END { exit !found }' "$change/table"
}
nested() { # where it is prepared with the outermost folder that is to come
    outer=$folder rest=$name
    while comes_or_goes "${outer%/*}" comes; do rest=${outer##*/}/$rest outer=${outer%/*}; done
    printf '%s\n' "$vault/$(row_of "$outer")/$rest"
}
is_nested() { [ "$vault" != inside ] && [ ! -e "$folder" ] && comes_or_goes "$folder" comes; } # it is to come with its folder
mount_of() { # the mount that a path is on
    awk -v path="$1/" 'BEGIN { best = "/" } { at = $5; gsub(/\\040/, " ", at)
        if (index(path, at == "/" ? at : at "/") == 1 && length(at) > length(best)) best = at } END { print best }' /proc/self/mountinfo
}
top_of() { # the deepest folder on the way to this one that only root can write
    (
        IFS=$nl parts='' above=$1 top=/
        set -f
        while [ -n "${above%/}" ]; do parts=$above$nl$parts above=${above%/*}; done
        for each in $(stat -c '%f %u %n' $parts 2>/dev/null); do
            case $each in 4?[02468ace][014589cd]' 0 '*) top=${each#* * } ;; *) break ;; esac
        done
        printf '%s\n' "$top"
    )
}
plan() { # where each row is prepared: below a folder of root's on the same mount; where there is none, for a moment inside its folder
    base=$folder
    while comes_or_goes "$base" either; do base=${base%/*}; done
    top=$(top_of "${base:-/}")
    mount=$(mount_of "$folder")
    if [ "$(mount_of "$top")" = "$mount" ]; then vault=${top%/}/.nightlatch-$id~; else vault=inside; fi
    printf '%s %s\n' "$number" "$mount" >>"$change/mounts" && printf '%s %s\n' "$number" "$vault" >>"$change/vaults" ||
        { why="$change has no room"; return 1; }
    [ "$vault" = inside ] || [ -d "$vault" ] || mkdir -m 700 "$vault" || { why="$vault could not be made"; return 1; }
}
enter() { # stand in this row's folder: behind the last part that only root can write, each part is compared with what was read
    top=$(top_of "$folder")
    cd -P -- "$top" 2>/dev/null || return 1
    [ "$top" != "$folder" ] || return 0
    rest=${folder#"${top%/}"/} so_far=${top%/}
    while [ -n "$rest" ]; do
        part=${rest%%/*} above=$(stat -c %d:%i .)
        case $rest in */*) rest=${rest#*/} ;; *) rest='' ;; esac
        so_far=$so_far/$part
        # A link would lead to where the folder above is another one.
        [ ! -L "$part" ] && cd -P -- "./$part" 2>/dev/null && seen=$(stat -c '%d:%i %u' .. .) &&
            [ "${seen%% *}" = "$above" ] && is_owner "$so_far" "${seen##* }" || { cd /; return 1; }
    done
}
is_owner() { # is_owner FOLDER UID: whether that is who had it when it was read, or has it by this change
    awk -v wanted="$1" -v uid="$2" '{ path = $0; sub("^[^ ]* ", "", path)
        if (path == wanted && index("," $1 ",", "," uid ",")) found = 1 } END { exit !found }' "$change/parts"
}
arrive() { # enter, with a place of ours at hand: $here is the folder, $vault where nobody else gets
    enter || return 1
    here=.
    [ "$vault" = inside ] || { [ -d "$vault" ] || mkdir -m 700 "$vault"; return; }
    above=$(stat -c %d:%i .)
    mkdir -m 700 "./.nightlatch-$id~" 2>/dev/null
    # Root's, closed to all others, and in this very folder: nobody else can have brought it here, or take it elsewhere.
    [ ! -L "./.nightlatch-$id~" ] && cd -P "./.nightlatch-$id~" 2>/dev/null && [ "$(stat -c '%u %a' .)" = '0 700' ] &&
        [ "$(stat -c %d:%i ..)" = "$above" ] || { cd /; return 1; }
    vault=. here=.. staged=./$number
}
depart() {
    case $vault in
    .) clean && cd .. && rmdir "./.nightlatch-$id~" 2>/dev/null; vault=inside ;;
    /*) rm -f "$vault/$number.now" ;;
    esac
    cd /
}
clean() { # what is only prepared
    rm -f "$vault/$number.now"
    if [ -d "$staged" ] && [ ! -L "$staged" ]; then rm -rf "$staged"; else rm -f "$staged"; fi
}
peek() { # what is at the path: sets kind, meta and sum, and for a file $seen, by which it can be looked into
    kind=absent meta='' sum='' seen=''
    if [ -L "$here/$name" ]; then kind=link
    elif [ -d "$here/$name" ]; then
        kind=folder
        meta=$(within "$here/$name" stat -c '%a %u %g' .)
    elif [ -e "$here/$name" ]; then
        kind=other seen=$here/$name
        if [ "$top" != "$folder" ]; then # by a second name in a place of ours it is looked at; a link or a pipe shows there
            seen=$vault/$number.now
            rm -f "$seen"
            ln "$here/$name" "$seen" 2>/dev/null || { kind=fixed; return; }
        fi
        [ ! -L "$seen" ] && [ -f "$seen" ] || return 0
        [ "$(stat -c %s "$seen")" -le $most ] || return 0
        kind=file
        meta=$(stat -c '%a %u %g' "$seen")
        sum=$(digest "$seen")
    fi
}
within() { # within FOLDER COMMAND...: run there, where FOLDER is really in the one above it
    (
        above=$(stat -c %d:%i "${1%/*}") && [ ! -L "$1" ] && cd -P "$1" && [ "$(stat -c %d:%i ..)" = "$above" ] && shift && "$@"
    ) 2>/dev/null
}
digest() { head -c $most <"$1" 2>/dev/null | sha256sum | cut -c1-64; }
is_before() { # whether the path is as the draft was proved on
    [ "$kind" = "$bk" ] || return 1
    [ "$kind" = absent ] || [ "$meta" = "$bm $bu $bg" ] || return 1
    [ "$kind" != file ] || [ "$sum" = "$bs" ]
}
is_ours() { # whether the path is as this change makes it, or on the way there
    [ "$kind" = "$ak" ] || return 1
    [ "$kind" != absent ] || return 0
    case $meta in "$bm $bu $bg" | "$am $au $ag" | "$bm $au $bg" | "$bm $au $ag" | "$bm $bu $ag") ;; *) return 1 ;; esac
    [ "$kind" != file ] || [ "$sum" = "$as" ] || [ "$sum" = "$bs" ]
}

# 4 save, 5 stage
save() {
    is_nested && return 0
    arrive || { why="the way to $path was changed since it was read; survey again"; return 1; }
    peek
    is_before || why="$path was changed since it was read; survey again"
    [ "$kind" != fixed ] || why="$path is marked as not to be changed (chattr), or can't be looked at"
    if [ -z "$why" ] && [ "$bk" = file ]; then
        copy "$seen" "$change/$number.before" && [ "$(digest "$change/$number.before")" = "$bs" ] || why="$path could not be copied"
        [ -n "$why" ] || attributes_stay "$seen" "$change/$number.before"
    fi
    [ -n "$why" ] || is_changeable
    depart
    [ -z "$why" ] || return 1
    at "saved $number"
}
is_changeable() {
    if [ "$bk" != absent ]; then
        # A folder only gets another mode or owner, so it may well be one.
        [ "$bk$ak" = folderfolder ] || awk -v path="$path" '$5 == path { found = 1 } END { exit found }' /proc/self/mountinfo ||
            { why="$path is a mount of its own, and can't be replaced in one step"; return; }
        case $(lsattr -d "${seen:-$here/$name}" 2>/dev/null | cut -d' ' -f1) in
        *[ia]*) why="$path is marked as not to be changed (chattr)" ;;
        esac
    fi
}
copy() { # copy FROM TO: what FROM is like, and as much of it as is ever read
    { cp -a --attributes-only "$1" "$2" 2>/dev/null || cp -a "$1" "$2"; } && head -c $most <"$1" >"$2"
}
attributes_stay() { # attributes_stay FROM COPY: cp says so when it can't carry extended attributes; else there must be none to lose
    ! cp --attributes-only --preserve=xattr "$1" "$2" 2>/dev/null || return 0
    held=$(attributes_of "$1") || { why="whether $path has extended attributes can't be told here, and cp would drop them; install getfattr (attr)"; return; }
    [ -z "$held" ] || why="$path has extended attributes ($(printf '%s' "$held" | tr '\n' ' ')), and this guest's cp drops them"
}
attributes_of() { # their names, by whichever program can tell; labels of SELinux have a way of their own
    if command -v getfattr >/dev/null; then names=$(getfattr -h -m - --absolute-names "$1")
    elif command -v python3 >/dev/null; then names=$(python3 -I -c 'import os, sys; print(*os.listxattr(sys.argv[1]), sep="\n")' "$1")
    else false; fi || return 1
    printf '%s\n' "$names" | sed '/^#/d;/^security\.selinux$/d;/^$/d'
}
stage() {
    [ "$vault" != inside ] || return 0 # made when it is swapped: nothing of ours stays where others could reach it
    seen=''
    if ! is_nested; then
        arrive || { why="the way to $path was changed by somebody else meanwhile"; return 1; }
        peek
        is_before || why="$path was changed by somebody else meanwhile"
    fi
    [ -n "$why" ] || make
    depart
    [ -z "$why" ] || return 1
    at "staged $number"
}
make() { # the new file or folder, where nobody else gets
    [ "$ak" = file ] || [ "$bk$ak" = absentfolder ] || return 0
    if [ "$ak" = folder ]; then
        mkdir -m 700 "$staged" || { why="$path could not be prepared"; return; }
    else
        [ "$bk" != file ] || copy "$seen" "$staged" || { why="$path could not be prepared"; return; }
        [ "$bk" != file ] || attributes_stay "$seen" "$staged"
        [ -z "$why" ] || return 0
        cat "$change/$number.after" >"$staged" || { why="$path could not be written"; return; }
    fi
    # Where labels count, a new file gets the one that its place has.
    [ "$bk" != absent ] || ! label=$(matchpathcon -n "$path" 2>/dev/null) || chcon "$label" "$staged" 2>/dev/null
    chown -h "$au:$ag" "$staged" && chmod "$am" "$staged" || { why="$path could not be given its owner and mode"; return; }
    [ "$ak" = folder ] || [ "$(digest "$staged")" = "$as" ] || { why="what was prepared for $path is not what was sent"; return; }
    settle "$staged"
}

# 8 swap
swap() {
    arrive || { why="the way to $path was changed by somebody else meanwhile"; return 1; }
    peek
    if came_along; then
        depart
    else
        is_before || why="$path was changed by somebody else meanwhile"
        [ -n "$why" ] || [ "$vault" != . ] || make
        [ -n "$why" ] || exchange || why="$path could not be replaced"
        depart
        [ -z "$why" ] || return 1
    fi
    at "swapped $number"
}
came_along() { # whether it came with its folder
    [ "$bk" = absent ] && [ "$kind" = "$ak" ] && [ ! -e "$staged" ] || return 1
    if [ "$ak" = file ]; then [ "$sum" = "$as" ]; else [ "$meta" = "$am $au $ag" ]; fi
}
exchange() {
    # The original stays, the very file under another name: taking it back needs no room on the disk.
    if [ "$bk" = file ] && [ "$vault" != . ]; then
        if [ "$seen" = "$vault/$number.now" ]; then mv -f "$seen" "$vault/$number.old"; else ln "$seen" "$vault/$number.old" 2>/dev/null || true; fi
    fi
    if [ "$ak" = absent ]; then
        if [ "$bk" = folder ]; then rmdir "$here/$name"; else rm -f "$here/$name"; fi
    elif [ "$bk" = folder ]; then
        regive "$au" "$ag" "$am" "$bu"
    elif [ -e "$staged" ]; then
        mv -fT "$staged" "$here/$name"
    fi
}
regive() { # regive UID GID MODE HAD: a folder's owner and mode; it is the folder itself that is given, wherever its name leads by now
    within "$here/$name" sh -c 'case "$(stat -c %u .)" in 0 | "$1" | "$4") chown "$1:$2" . && chmod "$3" . ;; *) false ;; esac' sh "$@"
}

# Taking back. What somebody else made of a file of ours stays theirs; the lines that were ours go.
put_back() {
    [ -n "$vault" ] || return 0 # nothing was begun there
    if [ -n "$(of_row mounts)" ] && [ "$(mount_of "$folder")" != "$(of_row mounts)" ]; then stick "is not on the mount where it was"; return; fi
    if ! arrive; then
        [ "$bk" = absent ] && [ ! -e "$folder" ] || leave
        return
    fi
    clean
    peek
    if is_before; then rm -f "$vault/$number.old"
    elif is_ours || { [ "$kind$bk" = absentfile ] && [ "$top" = "$folder" ]; }; then # root's own files come back when they are gone
        restore
        case $?$bk in 0absent) tell_back removed ;; 0*) tell_back back ;; 3*) leave ;; *) stick "could not be put back" ;; esac
    elif [ "$kind$ak" = filefile ]; then by_line
    elif [ "$kind" = fixed ]; then stick "can't be changed just now"
    else leave
    fi
    depart
    at "put back $number"
}
restore() {
    case $bk in
    absent) if [ "$ak" = folder ]; then rmdir "$here/$name" 2>/dev/null || return 3; else rm -f "$here/$name"; fi ;; # 3: theirs is in it
    folder) { [ "$kind" = folder ] || mkdir -m 700 "$here/$name"; } && regive "$bu" "$bg" "$bm" "$au" ;;
    *) the_original && mv -fT "$vault/$number.old" "$here/$name" ;;
    esac
}
the_original() { # the very file where it is still what it was, else its copy
    old=$vault/$number.old
    if [ -L "$old" ] || [ ! -f "$old" ] || [ "$(stat -c %u "$old")" != "$bu" ] || [ "$(digest "$old")" != "$bs" ]; then
        rm -f "$old"
        copy "$change/$number.before" "$old" && settle "$old" || return 1
    fi
    chown "$bu:$bg" "$old" && chmod "$bm" "$old"
}
by_line() { # a file that somebody touched: the lines of this change go back, all else stays (merge.awk)
    [ "$bk" != absent ] || : >"$change/$number.before" || { stick "could not be put back"; return; }
    flags=$(ends_open "$seen")$(ends_open "$change/$number.before")
    mode=${meta%% *} owner=${meta#* }
    [ "$bk" != file ] || [ "$mode" != "$am" ] || mode=$bm
    [ "$bk" != file ] || [ "$owner" != "$au $ag" ] || owner="$bu $bg"
    copy "$seen" "$staged" && awk -v flags="$flags" -v before="$change/$number.before" -v after="$change/$number.after" \
        -v hunks="$change/$number.hunks" "$merge" "$seen" >"$staged"
    case $? in
    0) ;;
    3) leave ;; # some lines are theirs by now
    *) stick "could not be put back"; return ;;
    esac
    if [ "$bk" = absent ] && [ ! -s "$staged" ]; then rm -f "$here/$name"
    elif [ "$(digest "$staged") $mode $owner" != "$sum $meta" ]; then
        chown -h "${owner% *}:${owner#* }" "$staged" && chmod "$mode" "$staged" && mv -fT "$staged" "$here/$name" || { stick "could not be put back"; return; }
    fi
    rm -f "$vault/$number.old"
    tell_back merged
}
ends_open() { if [ -n "$(tail -c 1 "$1")" ]; then printf 1; else printf 0; fi; }
put_whole() { # where sshd refuses what came of lines of both: ours as it was, theirs laid by for them
    case "$told_rows" in *"merged $path$nl"*) ;; *) return ;; esac
    arrive || return
    peek
    [ "$kind" != file ] || copy "$seen" "$change/$number.theirs"
    rm -f "$vault/$number.old"
    if [ "$bk" = absent ]; then rm -f "$here/$name"; else the_original && mv -fT "$vault/$number.old" "$here/$name"; fi || stick "could not be put back"
    told_rows=$(printf '%s' "$told_rows" | awk -v was="merged $path" -v now="whole $path" '{ print $0 == was ? now : $0 }')$nl
    depart
}
leave() { case "$told_rows" in *"left $path$nl"*) ;; *) told_rows="${told_rows}left $path$nl" ;; esac; } # somebody else's by now
tell_back() { told_rows="$told_rows$1 $path$nl" moved=yes; }
stick() { # stick WORDS: it is tried again until it is done
    stuck="$stuck$path$nl"
    say stuck "$path $1"
}
drop_row() { # what was prepared or kept for a row
    case $vault in
    '') ;;
    inside)
        if enter && [ -e "./.nightlatch-$id~" ] && arrive; then depart; fi
        cd /
        ;;
    *) rm -rf "$vault" ;;
    esac
}
