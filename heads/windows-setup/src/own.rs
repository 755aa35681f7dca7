//! The program's own texts, one byte a letter, each with a zero behind it; the system's form of them is made once, at the
//! start. It is half as large in the file. A text that is the end of another one stands there.

/// All of them; a text that `t!` names and that is not here is said when the program is built.
pub const ALL: &[u8] = b"\
\0\x01\0\x01/\0\nend\n\0\r\n\0\" /d /q /c rd /s /q \"\0%USERPROFILE%\0&&\0*\0, \0,0\0-clean\0-setup\0\
-setup.log\0..\0.dll\0.link.\0.lnk\0.part\0.~new\0/CHOICES=\0/ELEVATED \0/ELEVATED /SCOPE=machine /LANGUAGE=\0\
/FROM=\0/SCOPE=\0/SCOPE|/CHOICES|/DESKTOP|/STARTUP|/LANGUAGE|/LOG|/FROM|/IN-USE|/FOLDER\0\
/S|/REMOVE|/RESUME|/ELEVATED\0/x \01|yes\0://\0:\\\0;\0; possible: \0ApplicationDescription\0ApplicationName\0\
AskCancel\0AssignmentType\0BUTTON\0Cancelled\0Capabilities\0Choice.\0Comments\0Contact\0Content Type\0\
D:P(A;OICI;FA;;;BA)(A;OICI;FA;;;SY)\0DESKTOPSHORTCUT|STARTWITHSYSTEM|LicenseAccepted|StartNow\0DefaultIcon\0\
Desktop\0DisplayIcon\0DisplayName\0DisplayVersion\0Done\0EDIT\0EstimatedSize\0Failed\0FileAssociations\0\
Global\\\0HKCU\\\0HKLM\\\0HelpLink\0InstallFolder\0InstallLocation\0LISTBOX\0LOCALAPPDATA\0Maintain\0\
MsiRMFilesInUse\0Next\0NoModify\0NoRepair\0Nothing was changed. {detail}\0OpenWithProgids\0PATH\0\
PORTABLE_PROGRAM\0Programs\0Progress\0Publisher\0QuietUninstallString\0RecordSeal\0Remove\0STATIC\0\
SYSTEM\\CurrentControlSet\\Control\\Session Manager\\Environment\0Scope\0Segoe UI\0Setup\0Software\0\
Software\\Classes\0Software\\Classes\\\0Software\\Classes\\.\0\
Software\\Microsoft\\Windows NT\\CurrentVersion\\Fonts\0Software\\Microsoft\\Windows\\CurrentVersion\\RunOnce\0\
Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall\0\
Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\\0Software\\RegisteredApplications\0Startup\0\
SysListView32\0Temp\0This file is damaged. Please get it again.\0UPPER_SHELF_STOP_AT\0URL Protocol\0URL:\0\
URLAssociations\0URLInfoAbout\0Unfinished\0UnfinishedSeal\0UpperShelfWizard\0VersionString\0\
Windows Installer ended with \0\\\\\0\\\\.\\\0\\\\?\\\0\\\\?\\UNC\\\0\\n\0\\o\0\\resume.exe\" /RESUME /S\0_\0\
a thread\0all changes are made\0all changes are worked out\0allowed\0an instruction is not understood\0\
an interrupted run is looked at: \0asked\0choice\0cmd.exe\0desktop\0done-below\0done-text\0done-title\0\
downgrade\0failed-text\0folder|no-folder|file|no-file|key|no-key|value|service\0font\0in use: \0\
it has no program\0it has nothing to remove it with\0it is marked as unfinished\0it was finished\0\
it was undone\0it would need more than 256 MiB of memory\0item\0journal\0journal.new\0journal.undo\0kept\0\
kernel32\0left to the person who began it\0msctls_progress32\0msi\0msiexec.exe\0no-file\0no-folder\0no-key\0\
none\0nothing was left of it\0person|machine\0reading\0removed-below\0removed-text\0removed-title\0replaced: \0\
resume.exe\0rstrtmgr\0runas\0scope-machine\0scope-person\0seeking\0services\0setup-busy\0setup-damaged\0\
setup-elevation\0setup-failed\0setup-folder\0setup-in-use\0setup-newer\0setup-not-installed\0setup-other-scope\0\
setup-restart\0setup-space\0setup-usage\0setup-windows\0shell\\open\\command\0size\0smallest-windows\0\
start-at-end\0startup\0stop|wait|close\0taken away\0the folder is there\0the journal holds\0\
the journal is written\0the journal or the record is damaged\0the next login would finish it\0the path \0\
the service \0undone: \0uninstall.dat\0uninstall.exe\0upgrade-code\0value\0version\0\
version|machine|desktop|startup|choice|folder|file|font|kept|key|value|item|service\0\
what waited is cleared away\0x\0x1\0{log}\0~gone\0~setup\0~setup-\0 \"%1\"\0 %  \0 (32-bit)  \0 (TrueType)\0 (error \0 /qn /norestart\0 = \0 MB\0 bytes\0 did not start\0 is no switch of this program.\0 is started\0 is stopped\0 is whole\0 leads out of the folder\0 settings\0 was changed by somebody, and is not followed\0 was changed by somebody, and stays\0 | \0";

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
