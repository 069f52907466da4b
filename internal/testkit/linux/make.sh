#!/bin/bash
# Makes a small disk from which a real guest starts, under BIOS and UEFI: make.sh OUT.raw
# Partitions: boot code of BIOS, an EFI system partition with loader, kernel and initial memory disk, and ext4 with a known file.
# The guest writes on its screen and serial port what it is started by, and whether the known file is as it was, and its log has each line that it wrote. It adds to that all the
# while.
set -euo pipefail
out=$1
export LC_ALL=C PATH=$PATH:/usr/sbin:/sbin
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

kernel=$(apt-cache depends linux-image-cloud-amd64 | awk '/Depends: linux-image-/{print $2; exit}')
chmod 755 "$work" # for who downloads
(cd "$work" && apt-get download -qq "$kernel" >/dev/null 2>&1)
version=${kernel#linux-image-}
mkdir "$work/k"
dpkg-deb --fsys-tarfile "$work"/*.deb | tar -C "$work/k" -x ./boot ./lib/modules
rm "$work"/*.deb
depmod -b "$work/k" "$version" 2>/dev/null

tree=$work/tree
mkdir -p "$tree"/{bin,proc,sys,dev,data}
cp "$(command -v busybox)" "$tree/bin/busybox"
drivers="virtio_pci virtio_blk virtio_scsi sd_mod ata_piix ext4"
for d in $drivers; do
    modprobe -d "$work/k" -S "$version" --show-depends "$d" 2>/dev/null | awk '$1 == "insmod" {print $2}' || true
done | awk '!seen[$0]++' > "$work/order"
n=0
while read -r file; do
    n=$((n + 1))
    cp "$file" "$(printf '%s/%03d.ko' "$tree" $n)"
done < "$work/order"
cat > "$tree/init" <<'INIT'
#!/bin/busybox sh
bb=/bin/busybox
$bb mount -t proc proc /proc
$bb mount -t sysfs sysfs /sys
$bb mount -t devtmpfs dev /dev
for m in /*.ko; do $bb insmod $m 2>/dev/null; done
say() { echo "$@" > /dev/tty0; echo "$@" > /dev/ttyS0; }
firmware=bios
[ -d /sys/firmware/efi ] && firmware=uefi
tries=0
while ! $bb mount -t ext4 "$($bb findfs LABEL=tides 2>/dev/null)" /data 2>/dev/null; do
    tries=$((tries + 1))
    [ $tries -gt 300 ] && say "NO-ROOT" && break
    $bb usleep 100000
done
if (cd /data && $bb sha256sum -c known.sha256 >/dev/null 2>&1); then known=same; else known=other; fi
echo started >> /data/starts
echo start >> /data/log
if $bb awk '$1 == "start" {next} $1 != ++n {exit 1}' /data/log; then log=whole; else log=torn; fi
$bb sync
lines=$($bb grep -cv start /data/log)
say "GUEST-UP firmware=$firmware known=$known starts=$($bb wc -l < /data/starts) log=$log"
while :; do # at work on its filesystem
    lines=$((lines + 1))
    echo $lines >> /data/log
    $bb sync
    $bb usleep 50000
done
INIT
chmod 755 "$tree/init"
(cd "$tree" && find . | sort | cpio --quiet -o -H newc -R 0:0) | gzip -1n > "$work/initrd.img"

mkdir "$work/data"
seq -f 'the tide of day %.0f' 1 60000 > "$work/data/known.bin"
(cd "$work/data" && sha256sum known.bin > known.sha256)

# In MiB: 1 boot code of BIOS, 2 to 33 EFI system partition, 34 to 49 ext4.
truncate -s 51M "$out"
sfdisk -q "$out" <<TABLE
label: gpt
start=2048, size=2048, type=21686148-6449-6E6F-744E-656564454649
start=4096, size=65536, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B
start=69632, size=32768, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4
TABLE
cat > "$work/early.cfg" <<'CONFIG'
search --no-floppy --fs-uuid --set=root B0A6-A61E
linux /vmlinuz console=tty0 console=ttyS0,115200 quiet panic=5
initrd /initrd.img
boot
CONFIG
modules="part_gpt fat linux search search_fs_uuid boot"
grub-mkimage -O x86_64-efi -o "$work/BOOTX64.EFI" -p / -c "$work/early.cfg" $modules
grub-mkimage -O i386-pc -o "$work/core.img" -p / -c "$work/early.cfg" biosdisk $modules
truncate -s 32M "$work/esp.img"
mkfs.vfat -F 16 -i B0A6A61E "$work/esp.img" >/dev/null
mmd -i "$work/esp.img" ::/EFI ::/EFI/BOOT
mcopy -i "$work/esp.img" "$work/BOOTX64.EFI" ::/EFI/BOOT/BOOTX64.EFI
mcopy -i "$work/esp.img" "$work/k/boot/vmlinuz-$version" ::/vmlinuz
mcopy -i "$work/esp.img" "$work/initrd.img" ::/initrd.img
dd if="$work/esp.img" of="$out" bs=1M seek=2 conv=notrunc,sparse status=none
mkfs.ext4 -q -F -L tides -d "$work/data" "$work/data.img" 16M >/dev/null
dd if="$work/data.img" of="$out" bs=1M seek=34 conv=notrunc,sparse status=none

# The boot code names the sector where the loader begins, and that one the next: here the first partition.
le64() { printf "%016x\n" "$1" | fold -w2 | tac | sed 's/^/\\x/' | tr -d '\n'; }
put() { printf "$2" | dd of="$1" bs=1 seek="$3" conv=notrunc status=none; }
cp /usr/lib/grub/i386-pc/boot.img "$work/boot.img"
put "$work/boot.img" "$(le64 2048)" 92
put "$work/boot.img" '\x90\x90' 102
put "$work/core.img" "$(le64 2049)" 500
dd if="$work/boot.img" of="$out" bs=440 count=1 conv=notrunc status=none
dd if="$work/core.img" of="$out" bs=512 seek=2048 conv=notrunc status=none
