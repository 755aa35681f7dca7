//! The program's own texts, one byte a letter, each with a zero behind it; the system's form of them is made once, at the
//! start. It is half as large in the file. A text that is the end of another one stands there.

/// All of them; a text that `t!` names and that is not here is said when the program is built.
pub const ALL: &[u8] = b"\
\x01\0\x01/\0\nend\n\0\r\n\0&&\0*\0, \0,0\0-\0-setup\0-setup.log\0..\0.lnk\0.part\0.~new\0/D=\0\
/ELEVATED /SCOPE=machine /LANGUAGE=\0/FROM=\0/SCOPE|/CHOICES|/DESKTOP|/STARTUP|/LANGUAGE|/LOG|/FROM|/IN-USE\0\
/S|/REMOVE|/RESUME|/ELEVATED|/NCRC\01|yes\0://\0:\\\0;\0\\\\\0\\\\.\\\0\\\\?\\\0\\\\?\\UNC\\\0\\n\0\\o\0\
\\resume.exe\" /RESUME /S\0a thread\0all changes are made\0all changes are worked out\0allowed\0\
an instruction is not understood\0an interrupted run is looked at: \0AskCancel\0asked\0BUTTON\0Cancelled\0choice\0\
Comments\0Contact\0Content Type\0DefaultIcon\0desktop\0DESKTOPSHORTCUT|STARTWITHSYSTEM|LicenseAccepted|StartNow\0\
DisplayIcon\0DisplayName\0DisplayVersion\0Done\0done-below\0done-text\0done-title\0downgrade\0EDIT\0ended with \0\
EstimatedSize\0Failed\0failed-text\0folder|no-folder|file|no-file|key|no-key|value|service\0font\0Global\\\0\
HelpLink\0HKCU\\\0HKLM\\\0in use: \0InstallFolder\0InstallLocation\0it has no program\0\
it has nothing to remove it with\0it is marked as unfinished\0it was finished\0it was undone\0\
it would need more than 256 MiB of memory\0item\0journal\0journal.new\0journal.undo\0kept\0LISTBOX\0LOCALAPPDATA\0\
Maintain\0msctls_progress32\0MsiRMFilesInUse\0Next\0no-file\0no-folder\0no-key\0NoModify\0none\0NoRepair\0\
Nothing was changed. {detail}\0nothing was left of it\0OpenWithProgids\0person|machine\0PORTABLE_PROGRAM\0\
Programs\0Progress\0Publisher\0QuietUninstallString\0reading\0Remove\0removed-below\0removed-text\0removed-title\0\
resume.exe\0runas\0Scope\0scope\0scope-machine\0scope-person\0seeking\0Segoe UI\0services\0Setup\0setup-busy\0\
setup-damaged\0setup-elevation\0setup-failed\0setup-folder\0setup-in-use\0setup-newer\0setup-not-installed\0\
setup-restart\0setup-space\0setup-usage\0setup-windows\0shell\\open\\command\0size\0smallest-windows\0Software\0\
Software\\Classes\\\0Software\\Classes\\.\0Software\\Microsoft\\Windows NT\\CurrentVersion\\Fonts\0\
Software\\Microsoft\\Windows\\CurrentVersion\\RunOnce\0Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\\0\
start-at-end\0startup\0STATIC\0stop|wait|close\0SysListView32\0\
SYSTEM\\CurrentControlSet\\Control\\Session Manager\\Environment\0taken away\0the folder is there\0\
the journal holds\0the journal is written\0the journal or the record is damaged\0the next login would finish it\0\
the path \0the service \0This file is damaged. Please get it again.\0undone: \0Unfinished\0uninstall.dat\0\
uninstall.exe\0UPPER_SHELF_STOP_AT\0UpperShelfWizard\0URL Protocol\0URL:\0URLInfoAbout\0value\0version\0\
version|machine|desktop|startup|choice|folder|file|font|kept|key|value|item|service\0what waited is cleared away\0\
x \0{log}\0~gone\0~remove\0~setup\0 \"%1\"\0 %  \0 (32-bit)  \0 (error \0 (TrueType)\0 = \0 bytes\0 did not start\0 is no switch of this program.\0 is started\0 is whole\0 leads out of the folder\0 MB\0 settings\0 was changed by somebody, and stays\0 | \0";

/// Where a text stands.
pub const fn place(text: &str) -> usize {
    let text = text.as_bytes();
    let mut at = 0;
    while at + text.len() < ALL.len() {
        let mut n = 0;
        while n < text.len() && ALL[at + n] == text[n] {
            n += 1;
        }
        if n == text.len() && ALL[at + n] == 0 {
            return at;
        }
        at += 1;
    }
    panic!("this text has to be put into ALL")
}
