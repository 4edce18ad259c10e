# Runs as the first process of a lab guest's namespaces: makes its mounts, changes root, becomes the guest's init.
# usage: sh init.sh ROOT PROGRAM [ARGUMENT ...]
set -e
root=$1
shift
mount --bind "$root" "$root"
mount -t proc proc "$root/proc"
mount -t sysfs -o ro sysfs "$root/sys"
mount -t tmpfs -o mode=755 tmpfs "$root/run"
mount -t tmpfs -o mode=1777 tmpfs "$root/tmp"
mount -t cgroup2 cgroup2 "$root/sys/fs/cgroup"
mount -t tmpfs -o mode=755 tmpfs "$root/dev"
for name in null zero full random urandom tty; do
    : >"$root/dev/$name"
    mount --bind "/dev/$name" "$root/dev/$name"
done
mkdir "$root/dev/pts" "$root/dev/shm"
mount -t devpts -o newinstance,ptmxmode=0666,mode=620,gid=5 devpts "$root/dev/pts"
ln -s pts/ptmx "$root/dev/ptmx"
ln -s /proc/self/fd "$root/dev/fd"
hostname "$(cat "$root/etc/hostname")"
mkdir -p "$root/run/sshd" "$root/run/old"
cd "$root"
pivot_root . run/old
umount -l /run/old
rmdir /run/old
exec env -i container=lab PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin "$@"
