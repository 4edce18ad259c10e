# Take lines back: of the file that is read, what `hunks` made of `before` to get `after`; all else of it stays.
# A line of hunks is START END LOW HIGH: lines START to END of after (counted from 0, END not meant) stand for LOW to HIGH of before.
# Exit 0 when all went back, 3 when somebody touched some of those lines, which stay. flags: whether this file and `before` end
# without a line end.
{ now[++k] = $0 }
END {
    while ((getline line < after) > 0) made[++m] = line
    while ((getline line < before) > 0) old[++n] = line
    first = substr(flags, 1, 1) + 0; second = substr(flags, 2, 1) + 0
    match_lines()
    at = 0
    while ((getline line < hunks) > 0) {
        split(line, h, " ")
        here = spot(h[1], h[2])
        if (here < at) { theirs = 1; continue }
        for (i = at + 1; i <= here; i++) put(now[i], i == k && first)
        for (i = h[3] + 1; i <= h[4]; i++) put(old[i], i == n && second)
        at = here + h[2] - h[1]
    }
    for (i = at + 1; i <= k; i++) put(now[i], i == k && first)
    if (held && !open) printf "\n"
    exit theirs ? 3 : 0
}
function put(line, ends_open) {
    if (held) printf "\n"
    printf "%s", line
    held = 1
    open = ends_open
}
function spot(start, end,    i, first) { # how many lines stand before the hunk here; -1 where it is not whole any more
    if (end > start) {
        if (!(start + 1 in place)) return -1
        first = place[start + 1]
        for (i = start + 1; i <= end; i++) if (!(i in place) || place[i] != first + i - start - 1) return -1
        return first - 1
    }
    if (start == 0) return 0
    if (start in place) return place[start]
    return (end + 1 in place) ? place[end + 1] - 1 : -1
}
function match_lines(    low, high, i, j, rows, cols, best) { # place: which line here is which of after's, in their order
    while (low < m && low < k && made[low + 1] == now[low + 1]) { low++; place[low] = low }
    while (high < m - low && high < k - low && made[m - high] == now[k - high]) { place[m - high] = k - high; high++ }
    rows = m - low - high; cols = k - low - high
    if (rows * cols > 1000000) return
    for (i = rows; i >= 1; i--) for (j = cols; j >= 1; j--)
        if (made[low + i] == now[low + j]) best[i, j] = best[i + 1, j + 1] + 1
        else best[i, j] = best[i + 1, j] + 0 > best[i, j + 1] + 0 ? best[i + 1, j] : best[i, j + 1] + 0
    i = 1; j = 1
    while (i <= rows && j <= cols)
        if (made[low + i] == now[low + j]) { place[low + i] = low + j; i++; j++ }
        else if (best[i + 1, j] + 0 >= best[i, j + 1] + 0) i++
        else j++
}
