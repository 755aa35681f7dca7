//! A real Linux kernel in user mode, as a judge of file systems that this machine's own kernel may not have.

use std::path::Path;
use std::process::Command;

/// Starts a program without the state of newer registers: user-mode Linux has no room for what some processors have, and
/// gives up on them. It asks how large that state is, is told that nobody knows, and does without.
const PLAIN: &str = r#"
sub op { pack("SCCL", @_) }
my $code = join("", op(0x20,0,0,0), op(0x15,0,5,101), op(0x20,0,0,16), op(0x15,1,0,0x4204), op(0x15,0,2,0x4205),
  op(0x20,0,0,32), op(0x15,1,0,0x202), op(0x06,0,0,0x7fff0000), op(0x06,0,0,0x00050016));
my $program = pack("Sx6P", length($code)/8, $code);
syscall(157,38,1,0,0,0)==0 && syscall(157,22,2,$program)==0 or die "no filter: $!";
exec @ARGV;"#;

/// Loads a module, whose file is the argument.
const LOAD: &str = r#"open F, "<", $ARGV[0] or die; my ($n, $text, $none) = (fileno F, "", 0); syscall(313,$n,$text,$none)==0 or die "$ARGV[0]: $!""#;

/// Mounts a volume in a kernel of its own and runs shell commands in it; gives what they printed. The volume's file is
/// changed only if the options say `rw`. All of this machine's programs can be used, and its files can be written.
///
/// # Panics
/// If the kernel does not start or does not mount the volume.
pub fn in_volume(volume: &Path, options: &str, commands: &str) -> String {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let (init, said) = (folder.path().join("init.sh"), folder.path().join("said"));
    let volume = volume.canonicalize().expect("the volume is there");
    let script = format!(
        "#!/bin/sh\n\
         mount -t proc proc /proc; mount -t tmpfs tmpfs /mnt\n\
         modules=/usr/lib/uml/modules/$(uname -r)/kernel\n\
         export GLIBC_TUNABLES=glibc.cpu.hwcaps=-AVX,-AVX2,-AVX512F,-AVX512VL,-AVX512BW,-ERMS\n\
         for m in drivers/cdrom/cdrom.ko fs/nls/nls_utf8.ko fs/hfsplus/hfsplus.ko; do perl -e '{LOAD}' $modules/$m; done\n\
         (mount -t hfsplus -o {options} /dev/ubda /mnt && cd /mnt && {{\n{commands}\n}}; cd /; umount /mnt 2>/dev/null; echo ended) >{} 2>&1\n\
         echo o > /proc/sysrq-trigger; sleep 9\n",
        said.display()
    );
    std::fs::write(&init, script).expect("written");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(&init, mode).expect("mode");
    // Without `r` the kernel would lock the file and change it.
    let drive = if options.split(',').any(|o| o == "rw") { "ubd0" } else { "ubd0r" };
    let out = Command::new("perl")
        .args(["-e", PLAIN, "linux.uml"])
        .arg(format!("{drive}={}", volume.display()))
        .args(["root=/dev/root", "rootfstype=hostfs", "rootflags=/", "rw", "mem=512M", "con=null", "con0=fd:0,fd:1"])
        .arg(format!("init={}", init.display()))
        .stdin(std::process::Stdio::null())
        .output()
        .unwrap_or_else(|e| panic!("the judge `linux.uml` can't be started by perl ({e}); `./test` installs them"));
    let text = String::from_utf8_lossy(&std::fs::read(&said).unwrap_or_default()).into_owned();
    let console = String::from_utf8_lossy(&out.stdout).into_owned();
    let text = text.strip_suffix("ended\n").unwrap_or_else(|| panic!("the kernel ended early: {text}\n{console}"));
    assert!(!text.contains("mount: "), "the kernel does not mount the volume: {text}\n{console}");
    text.to_owned()
}
