# Sourced by the measuring scripts: two commands in turn on the same files, and the ratio of their speeds.
runs=${runs:-5}

seconds() { local t0 t1; t0=$(date +%s%N); "$@" >/dev/null 2>&1; t1=$(date +%s%N); echo $(( (t1 - t0) / 1000000 )); }
median() { sort -n | sed -n "$(( (runs + 1) / 2 ))p"; }

# pair NAME OTHER COMMAND: each of the two is a shell command line; run in turn, after one run that does not count.
pair() {
    local ours=() theirs=() ratios=() a b
    for run in $(seq 0 $runs); do
        rm -rf out; sync; b=$(seconds bash -c "$2")
        rm -rf out; sync; a=$(seconds bash -c "$3")
        [ "$run" = 0 ] && continue
        ours+=("$a"); theirs+=("$b"); ratios+=("$(( 1000 * b / (a > 0 ? a : 1) ))")
    done
    a=$(printf '%s\n' "${ours[@]}" | median); b=$(printf '%s\n' "${theirs[@]}" | median)
    local r; r=$(printf '%s\n' "${ratios[@]}" | median)
    printf '| %s | %d.%03d s | %d.%03d s | %d.%02d |\n' "$1" $((a / 1000)) $((a % 1000)) $((b / 1000)) $((b % 1000)) $((r / 1000)) $((r % 1000 / 10))
}
