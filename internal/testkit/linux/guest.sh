#!/bin/bash
# Makes the disk of a guest that is laid out as Debian lays one out: guest.sh OUT.raw MAKER "MODULES" ROOT
# MAKER is what makes its initial memory disk, from the system's packages: initramfs-tools or dracut. MODULES are the drivers that it has, beside ext4. ROOT is what its boot
# configuration and fstab call the filesystem that it runs from: uuid, or a device. It starts under BIOS, and under UEFI by a loader that lies where only a variable names it.
# What runs in it sees to its devices as any system does (udev), and says on its serial port whether all of fstab is mounted and the network card is there that is set up.
set -euo pipefail
out=$1 maker=$2 drivers=$3 root=$4
export LC_ALL=C PATH=$PATH:/usr/sbin:/sbin
work=$(mktemp -d)
trap 'umount -R "$work" 2>/dev/null || true; rm -rf "$work"' EXIT
mount -t tmpfs tmpfs "$work"
chmod 755 "$work" # for who downloads

kernel=$(apt-cache depends "${KERNEL:-linux-image-cloud-amd64}" | awk '/Depends: linux-image-/{print $2; exit}')
version=${kernel#linux-image-}
mkdir -p "$work"/{debs,pkg,up,wk,merged,tree,esp}
chmod 777 "$work/debs"
(cd "$work/debs" && apt-get download -qq "$kernel" initramfs-tools-core dracut-core udev kmod klibc-utils libklibc >/dev/null 2>&1)
for deb in "$work"/debs/*.deb; do
    dpkg-deb --fsys-tarfile "$deb" | tar -C "$work/pkg" -x --exclude='./usr/share/doc*' \
        --exclude='*/kernel/drivers/gpu*' --exclude='*/kernel/drivers/media*' --exclude='*/kernel/drivers/net/wireless*' --exclude='*/kernel/sound*'
done
rm -r "$work/debs"
for dir in lib sbin bin; do # in the form that the system has
    [ -d "$work/pkg/$dir" ] || continue
    mkdir -p "$work/pkg/usr/$dir"
    cp -a "$work/pkg/$dir/." "$work/pkg/usr/$dir/"
    rm -r "${work:?}/pkg/$dir"
done

# The packages over the system, for as long as it takes to make the initial memory disk.
m=$work/merged
mount -t overlay overlay -o lowerdir="$work/pkg":/,upperdir="$work/up",workdir="$work/wk" "$m"
mount -t proc proc "$m/proc"
mount --bind /dev "$m/dev"
mount -t tmpfs tmpfs "$m/tmp"
chroot "$m" depmod "$version"
if [ "$maker" = dracut ]; then
    chroot "$m" dracut -q --force --no-hostonly --no-hostonly-cmdline --no-early-microcode --tmpdir /tmp --kver "$version" \
        -m "base udev-rules kernel-modules rootfs-block fs-lib" --drivers "ext4 $drivers" --filesystems "ext4" /tmp/initrd.img >/dev/null
else
    mkdir -p "$m"/tmp/conf/{conf.d,hooks,scripts} "$m/etc/initramfs-tools"
    printf 'MODULES=list\nBUSYBOX=y\nCOMPRESS=zstd\nRUNSIZE=10%%\nFSTYPE=ext4\n' > "$m/tmp/conf/initramfs.conf"
    touch "$m/tmp/conf/update-initramfs.conf"
    printf '%s\n' ext4 $drivers > "$m/tmp/conf/modules"
    chroot "$m" mkinitramfs -d /tmp/conf -o /tmp/initrd.img "$version" >/dev/null 2>&1
fi
tree=$work/tree
mkdir -p "$tree"/{boot/grub/i386-pc,boot/efi,etc/network,usr/{bin,sbin,lib},proc,sys,dev,run,tmp,home/crew}
for dir in bin sbin lib; do ln -s "usr/$dir" "$tree/$dir"; done
cp "$m/tmp/initrd.img" "$tree/boot/initrd.img-$version"
cp "$work/pkg/boot/vmlinuz-$version" "$tree/boot/"
cp -a "$m/usr/lib/modules" "$tree/usr/lib/"
mkdir -p "$tree/usr/lib/systemd" "$tree/usr/lib/udev"
cp -a "$m"/usr/lib/systemd/{systemd-udevd,network} "$tree/usr/lib/systemd/" 2>/dev/null || true
cp -aL "$m/usr/bin/udevadm" "$tree/usr/bin/"
ln -sf /bin/udevadm "$tree/usr/lib/systemd/systemd-udevd"
cp -a "$m/usr/lib/udev/rules.d" "$tree/usr/lib/udev/"
cp -L "$m/usr/bin/kmod" "$tree/usr/bin/"
for tool in modprobe insmod; do ln -sf ../bin/kmod "$tree/usr/sbin/$tool"; done
cp "$(command -v busybox)" "$tree/usr/bin/"
for program in udevadm kmod; do # with what they are linked to
    chroot "$m" ldd "/usr/bin/$program" | grep -o '/[^ ]*' | while read -r lib; do
        mkdir -p "$tree$(dirname "$lib")"
        cp -L "$m$lib" "$tree$lib"
    done
done
umount -R "$m"

id=b0a6a61e-0000-4000-8000-00000000beac
[ "$root" = uuid ] && root=UUID=$id efi=UUID=B0A6-A61E || efi=${root%3}2
printf 'PRETTY_NAME="Harbour Linux 12"\nID=debian\n' > "$tree/etc/os-release"
printf '%s / ext4 errors=remount-ro 0 1\n%s /boot/efi vfat defaults 0 2\n' "$root" "$efi" > "$tree/etc/fstab"
printf 'auto lo\niface lo inet loopback\nauto quay0\niface quay0 inet dhcp\n' | sed 's/quay0/enp9s9/' > "$tree/etc/network/interfaces"
seq -f 'the tide of day %.0f' 1 60000 > "$tree/home/crew/tides.txt"
(cd "$tree/home/crew" && sha256sum tides.txt > tides.sha256)
cat > "$tree/sbin/init" <<'INIT'
#!/usr/bin/busybox sh
bb=/usr/bin/busybox
export PATH=/usr/sbin:/usr/bin
$bb mount -t proc proc /proc 2>/dev/null
$bb mount -t sysfs sysfs /sys 2>/dev/null
$bb mount -t devtmpfs dev /dev 2>/dev/null
$bb mount -t tmpfs tmpfs /run 2>/dev/null
$bb mount -o remount,rw /
/usr/lib/systemd/systemd-udevd --daemon
udevadm trigger --type=subsystems --action=add
udevadm trigger --type=devices --action=add
udevadm settle --timeout=60
modprobe -a vfat nls_ascii nls_cp437 nls_iso8859-1 2>/dev/null
mounts=all
while read -r what where kind options rest; do
    [ "$where" = / ] && continue
    case $what in UUID=*) what=$($bb findfs "$what") ;; esac
    $bb mount -t "$kind" "$what" "$where" || mounts=some
done < /etc/fstab
card=$($bb awk '$1 == "iface" && $2 != "lo" {print $2}' /etc/network/interfaces)
network=none
$bb ifconfig "$card" 10.0.2.15 up 2>/dev/null && network=$card
if (cd /home/crew && $bb sha256sum -c tides.sha256 >/dev/null 2>&1); then known=same; else known=other; fi
firmware=bios
[ -d /sys/firmware/efi ] && firmware=uefi
echo "GUEST-UP firmware=$firmware known=$known mounts=$mounts network=$network" > /dev/ttyS0
printf 'gate-kiosk login: ' > /dev/ttyS0
$bb sync
while :; do $bb sleep 60; done
INIT
chmod 755 "$tree/sbin/init"
cat > "$tree/boot/grub/grub.cfg" <<CONFIG
set timeout=0
menuentry 'Harbour Linux' {
	linux /boot/vmlinuz-$version root=$root ro console=tty0 console=ttyS0,115200 panic=5 rd.retry=10
	initrd /boot/initrd.img-$version
}
CONFIG

# In MiB: 1 boot code of BIOS, 2 to 33 EFI system partition, 34 on ext4.
size=$(($(du -sm "$tree" | cut -f1) * 5 / 4 + 64))
truncate -s $((size + 36))M "$out"
sfdisk -q "$out" <<TABLE
label: gpt
start=2048, size=2048, type=21686148-6449-6E6F-744E-656564454649
start=4096, size=65536, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B
start=69632, size=$((size * 2048)), type=0FC63DAF-8483-4772-8E79-3D69D8477DE4
TABLE
printf 'search --no-floppy --fs-uuid --set=root %s\nconfigfile /boot/grub/grub.cfg\n' $id > "$work/early.cfg"
modules="part_gpt fat ext2 linux search search_fs_uuid boot configfile normal test echo"
grub-mkimage -O x86_64-efi -o "$work/grubx64.efi" -p / -c "$work/early.cfg" $modules
grub-mkimage -O i386-pc -o "$work/core.img" -p / -c "$work/early.cfg" biosdisk $modules
truncate -s 32M "$work/esp.img"
mkfs.vfat -F 16 -i B0A6A61E "$work/esp.img" >/dev/null
mmd -i "$work/esp.img" ::/EFI ::/EFI/harbour
mcopy -i "$work/esp.img" "$work/grubx64.efi" ::/EFI/harbour/grubx64.efi
dd if="$work/esp.img" of="$out" bs=1M seek=2 conv=notrunc,sparse status=none
mkfs.ext4 -q -F -U $id -d "$tree" "$work/root.img" ${size}M >/dev/null
dd if="$work/root.img" of="$out" bs=1M seek=34 conv=notrunc,sparse status=none

# The boot code names the sector where the loader begins, and that one the next: here the first partition.
le64() { printf "%016x\n" "$1" | fold -w2 | tac | sed 's/^/\\x/' | tr -d '\n'; }
put() { printf "$2" | dd of="$1" bs=1 seek="$3" conv=notrunc status=none; }
cp /usr/lib/grub/i386-pc/boot.img "$work/boot.img"
put "$work/boot.img" "$(le64 2048)" 92
put "$work/boot.img" '\x90\x90' 102
put "$work/core.img" "$(le64 2049)" 500
dd if="$work/boot.img" of="$out" bs=440 count=1 conv=notrunc status=none
dd if="$work/core.img" of="$out" bs=512 seek=2048 conv=notrunc status=none
