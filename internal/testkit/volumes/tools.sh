#!/bin/sh
# What the tools of LVM and ZFS do with volumes, done with files and loop devices: those of a group lie in the folder below, one file each, beside the path of its
# device. What is new in a volume of LVM shows what lay there before, as it does on a disk.
dir=@DIR@ group=@GROUP@ extent=4194304
tool=$(basename "$0")
fail() { echo "  $*" >&2; exit 5; }
echo "$tool $*" >> "$dir/called"
echo "  WARNING: this is no real $tool." >&2
for last; do :; done

device() { cat "$dir/$1.device"; }
used() { echo $(( $(stat -c %b "$dir/$1.volume") * 512 )); }
make() { # name, bytes, what it holds
	[ -e "$dir/$1.volume" ] && fail "Logical Volume \"$1\" already exists in volume group \"$group\""
	truncate -s "$2" "$dir/$1.volume"
	[ "$3" = old ] && yes "what lay here before" | head -c "$2" > "$dir/$1.volume"
	losetup --find --show "$dir/$1.volume" > "$dir/$1.device" || fail "no device"
	ln -sfn "$(device "$1")" "$dir/dev/$1"
	cat /proc/sys/kernel/random/uuid > "$dir/$1.id"
	date +%s > "$dir/$1.made"
	echo "$3" > "$dir/$1.held"
}
grow() { # name, bytes
	size=$(stat -c %s "$dir/$1.volume") || fail "no $1"
	[ "$2" -gt "$size" ] || fail "New size given is not larger than existing size"
	[ "$(cat "$dir/$1.held")" = old ] && yes "what lay here before" | head -c $(($2 - size)) >> "$dir/$1.volume"
	truncate -s "$2" "$dir/$1.volume"
	losetup --set-capacity "$(device "$1")"
}
name() { # from, to
	[ -e "$dir/$1.volume" ] || fail "Existing logical volume \"$1\" not found"
	[ -e "$dir/$2.volume" ] && fail "Logical Volume \"$2\" already exists"
	for part in volume device id made held; do mv "$dir/$1.$part" "$dir/$2.$part"; done
	rm "$dir/dev/$1"
	ln -sfn "$(device "$2")" "$dir/dev/$2"
}
remove() {
	[ -e "$dir/$1.volume" ] || fail "Failed to find logical volume \"$group/$1\""
	losetup --detach "$(device "$1")" || fail "Logical volume $group/$1 in use."
	rm "$dir/dev/$1" "$dir/$1".*
}
each() { find "$dir" -maxdepth 1 -name '*.volume' -printf '%f\n' | sed 's/\.volume$//' | sort; }
round() { echo $(( (${1%b} + extent - 1) / extent * extent )); }
all() { sum=0; for n in $(each); do sum=$((sum + $(used "$n"))); done; echo $sum; }
total=$(cat "$dir/total")

case $tool in
lvs)
	case $last in
	"$group"/*)
		part=$(awk -v n="$(all)" -v of="$total" 'BEGIN { printf "%.2f", n * 100 / of }')
		echo "{\"report\":[{\"lv\":[{\"lv_size\":\"$total\",\"data_percent\":\"$part\"}]}]}"
		exit 0 ;;
	"$group") ;;
	*) fail "Volume group \"$last\" not found" ;;
	esac
	echo '{"report": [{"lv": ['
	comma=
	for n in $(each); do
		attr=-wi-a-----; [ -e "$dir/$n.open" ] && attr=-wi-ao----
		echo "$comma{\"lv_name\":\"$n\",\"lv_path\":\"$dir/dev/$n\",\"lv_uuid\":\"$(cat "$dir/$n.id")\",\"lv_size\":\"$(stat -c %s "$dir/$n.volume")\",\"lv_attr\":\"$attr\",\"lv_time\":\"$(cat "$dir/$n.made")\",\"data_percent\":\"\"}"
		comma=,
	done
	echo "$comma"'{"lv_name":"tides","lv_path":"","lv_uuid":"x","lv_size":"4194304","lv_attr":"twi-aotz--","lv_time":"0","data_percent":"12.00"}'
	echo ']}]}' ;;
vgs)
	[ "$last" = "$group" ] || fail "Volume group \"$last\" not found"
	echo "{\"report\":[{\"vg\":[{\"vg_size\":\"$total\",\"vg_free\":\"$((total - $(all)))\",\"vg_extent_size\":\"$extent\"}]}]}" ;;
lvcreate)
	held=old
	case " $* " in *" --snapshot "*)
		of=${last#"$group"/}
		while [ "$1" != --name ]; do shift; done
		make "$2" "$(stat -c %s "$dir/$of.volume")" ""
		dd if="$(device "$of")" of="$(device "$2")" bs=1M conv=fsync status=none
		exit 0 ;;
	esac
	while [ $# -gt 0 ]; do
		case $1 in
		--name) called=$2 ;;
		--size) size=$(round "$2") ;;
		--virtualsize) size=$(round "$2"); held= ;;
		esac
		shift
	done
	[ $(( $(all) + size )) -le "$total" ] || [ -z "$held" ] || fail "Volume group \"$group\" has insufficient free space"
	make "$called" "$size" "$held" ;;
lvextend)
	size=$(round "$2"); n=${3#"$group"/}
	[ $(( $(all) + size - $(stat -c %s "$dir/$n.volume") )) -le "$total" ] || fail "Insufficient free space"
	grow "$n" "$size" ;;
lvrename) name "$2" "$3" ;;
lvremove) remove "${2#"$group"/}" ;;
zfs)
	case $1 in
	list) for n in $(each); do
		printf '%s/%s\t%s\t%s\t%s\t%s\n' "$group" "$n" "$(stat -c %s "$dir/$n.volume")" "$(cat "$dir/$n.id")" "$(used "$n")" "$(cat "$dir/$n.made")"
	done ;;
	get) all; echo $((total - $(all))) ;;
	create) make "${5#"$group"/}" "$4" "" ;;
	set) grow "${3#"$group"/}" "${2#volsize=}" ;;
	snapshot) n=${2#"$group"/}; [ -e "$dir/${n%@*}.volume" ] || fail "dataset does not exist"; dd if="$(device "${n%@*}")" of="$dir/$n.snapshot" bs=1M status=none ;;
	clone) n=${2#"$group"/}; to=${3#"$group"/}; make "$to" "$(stat -c %s "$dir/$n.snapshot")" ""; dd if="$dir/$n.snapshot" of="$(device "$to")" bs=1M conv=fsync status=none ;;
	rename) name "${2#"$group"/}" "${3#"$group"/}" ;;
	destroy) case $2 in
		*@*) rm "$dir/${2#"$group"/}.snapshot" || fail "could not find any snapshots to destroy" ;;
		*) remove "${2#"$group"/}" ;;
		esac ;;
	esac ;;
esac
