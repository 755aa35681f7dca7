//! What packages consist of besides the product's own files: entries, lists, scripts and guides, as they are in the
//! finished packages.

use crate::common::Quiet;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::LazyLock;
use upper_shelf_core::manifest;
use upper_shelf_core::packaging::{self, Options};
use upper_shelf_core::platform::Platform;

/// The folder with the packages of the product, which are built once for all tests.
static PACKAGES: LazyLock<PathBuf> = LazyLock::new(|| {
    let folder = crate::common::folder();
    let packages = Path::new(env!("CARGO_TARGET_TMPDIR")).join("generated");
    let _ = std::fs::remove_dir_all(&packages);
    let text = crate::common::RIGHT
        .replace(r#"summary = "All hives at a glance""#, r#"summary = { en = "All hives", de = "Alle Stöcke" }"#)
        .replace(r#""tar", "zip","#, r#""appimage", "tar", "zip", "portable","#);
    std::fs::write(folder.path().join("shelf.toml"), text).unwrap();
    let project = manifest::load(folder.path(), &|_| None).unwrap();
    let options = Options {
        platforms: None,
        targets: None,
        host: Platform::LinuxX64,
        epoch: None,
        output: None,
        keys_elsewhere: false,
    };
    let plans = packaging::plan(&project, &options).unwrap();
    packaging::build(&project, plans, &packages, 2, None, &Quiet).unwrap();
    packages
});

/// The package whose name ends so.
pub fn package(ending: &str) -> PathBuf {
    let all = std::fs::read_dir(&*PACKAGES).unwrap().map(|entry| entry.unwrap().path());
    let mut fitting: Vec<PathBuf> = all.filter(|path| path.to_string_lossy().ends_with(ending)).collect();
    assert_eq!(fitting.len(), 1, "{ending}: {fitting:?}");
    fitting.remove(0)
}

fn of_appimage(path: &str) -> String {
    let mut file = File::open(package(".AppImage")).unwrap();
    let mut head = [0; 64];
    file.read_exact(&mut head).unwrap();
    let sections = u64::from_le_bytes(head[40..48].try_into().unwrap());
    let offset = sections + u64::from(head[58]) * u64::from(head[60]);
    let image = squashfs::read::Image::open(file, offset, squashfs::read::Limits::default()).unwrap();
    let inode = image.lookup(path.as_bytes()).unwrap().unwrap_or_else(|| panic!("no {path}"));
    String::from_utf8(image.read_to_vec(&inode).unwrap()).unwrap()
}

fn of_disk_image(path: &str) -> String {
    let image = udif::read::Image::open(File::open(package(".dmg")).unwrap(), udif::read::Limits::default()).unwrap();
    let parts = udif::partitions::partitions(&image).unwrap();
    let part = parts.iter().find(|part| part.content == udif::partitions::Content::Hfs).unwrap();
    let disk = read_at::Part::new(image, part.start, part.length).unwrap();
    let volume = hfs_plus::read::Volume::open(disk, hfs_plus::read::Limits::default()).unwrap();
    let entries = volume.entries().unwrap();
    let entry = entries.iter().find(|entry| entry.path == path).unwrap_or_else(|| panic!("no {path}"));
    io::read_to_string(volume.read(entry).unwrap()).unwrap()
}

fn of_archive(path: &str) -> String {
    let plain = flate2::read::MultiGzDecoder::new(File::open(package("linux-x64.tar.gz")).unwrap());
    for entry in tar::Archive::new(plain).entries().unwrap() {
        let entry = entry.unwrap();
        if entry.path().unwrap().ends_with(path) {
            return io::read_to_string(entry).unwrap();
        }
    }
    panic!("no {path}");
}

/// A text without what depends on every byte of a package.
pub fn without_guids(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('{') {
        let guid = rest[at..].get(..38).filter(|guid| msi_database::check::is_guid(guid));
        let (shown, length) = guid.map_or(("{", 1), |guid| ("{GUID}", guid.len()));
        out.push_str(&rest[..at]);
        out.push_str(shown);
        rest = &rest[at + length..];
    }
    out + rest
}

fn beside(ending: &str) -> String {
    without_guids(&std::fs::read_to_string(package(ending)).unwrap())
}

#[test]
fn an_appimage_says_who_it_is_and_what_it_opens() {
    insta::assert_snapshot!(of_appimage("usr/share/applications/works.fernhollow.hives.desktop"), @r#"
    [Desktop Entry]
    Type=Application
    Version=1.0
    Name=Hives
    Comment=All hives
    Comment[de]=Alle Stöcke
    Exec=AppRun --start=app %U
    Icon=works.fernhollow.hives
    Terminal=false
    Categories=Office;
    MimeType=application/x-hive;x-scheme-handler/hives;
    X-UpperShelf-Program=app
    X-AppImage-Version=1.4.0
    "#);
    insta::assert_snapshot!(of_appimage("usr/share/metainfo/works.fernhollow.hives.metainfo.xml"), @r#"
    <?xml version="1.0" encoding="UTF-8"?>
    <component type="desktop-application">
      <id>works.fernhollow.hives</id>
      <metadata_license>FSFAP</metadata_license>
      <project_license>LicenseRef-proprietary</project_license>
      <name>Hives</name>
      <summary>All hives</summary>
      <summary xml:lang="de">Alle Stöcke</summary>
      <developer id="works.fernhollow">
        <name>Fernhollow Apiary Works</name>
      </developer>
      <description>
        <p>All hives.</p>
      </description>
      <launchable type="desktop-id">works.fernhollow.hives.desktop</launchable>
      <icon type="stock">works.fernhollow.hives</icon>
      <url type="homepage">https://fernhollow.example</url>
      <categories>
        <category>Office</category>
      </categories>
      <content_rating type="oars-1.1"/>
      <provides>
        <mediatype>application/x-hive</mediatype>
      </provides>
      <releases>
        <release version="1.4.0" date="2026-11-20"/>
      </releases>
    </component>
    "#);
    insta::assert_snapshot!(of_appimage("usr/share/mime/packages/works.fernhollow.hives.xml"), @r#"
    <?xml version="1.0" encoding="UTF-8"?>
    <mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
      <mime-type type="application/x-hive">
        <comment>Hive</comment>
        <glob pattern="*.hive"/>
      </mime-type>
    </mime-info>
    "#);
}

#[test]
fn an_appimage_starts_its_program_with_its_arguments_and_variables() {
    let script = of_appimage("AppRun");
    let lines: Vec<&str> = script.lines().filter(|line| !line.contains("has the BLAKE3")).collect();
    insta::assert_snapshot!(lines.join("\n"), @r#"
    #!/bin/sh
    # Starts the product's programs; written by Upper Shelf, and read back by it line by line.
    here=$(dirname -- "$(readlink -f -- "$0")")
    name=$0
    if [ -n "${APPDIR-}" ] && [ "$(readlink -f -- "$APPDIR")" = "$here" ]; then name=${ARGV0:-$0}
    else unset APPDIR APPIMAGE ARGV0 OWD; fi
    APPDIR=$here; export APPDIR
    install=$here/usr/lib/works.fernhollow.hives
    start=app
    # Under another program's name, or with --start=KEY first, that program is started.
    case ${name##*/} in
    'app') start=app ;;
    esac
    case ${1-} in
    '--start=app') start=app; shift ;;
    esac
    export HIVES_SEASON='2026'
    case $start in
    app)
      file='share/hives'
      export HIVES='all'
      cd "$HOME" || exit 126
      set -- '--all' "$@"
      ;;
    esac
    exec "$install/$file" "$@"
    "#);
}

#[test]
fn an_archive_is_installed_by_a_script() {
    let script = of_archive("install.sh");
    let own = script.split("places() {").next().unwrap();
    insta::assert_snapshot!(own, @r#"
    #!/bin/sh
    # Installs the program. Needs a POSIX shell and nothing else.
    set -eu
    umask 022
    unset CDPATH
    id='works.fernhollow.hives'
    name='Hives'
    version='1.4.0'
    commands='hives=app'
    shell_files='bash-completion/completions/hives=share/hives.bash
    man/man1/hives.1=share/hives.1'
    "#);
}

#[test]
fn a_bundle_says_who_it_is_in_each_language() {
    insta::assert_snapshot!(of_disk_image("Hives.app/Contents/Info.plist"), @r#"
    <?xml version="1.0" encoding="UTF-8"?>
    <!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
    <plist version="1.0">
    <dict>
    	<key>CFBundleDevelopmentRegion</key>
    	<string>en</string>
    	<key>CFBundleExecutable</key>
    	<string>Hives</string>
    	<key>CFBundleIconFile</key>
    	<string>AppIcon</string>
    	<key>CFBundleIdentifier</key>
    	<string>works.fernhollow.hives</string>
    	<key>CFBundleInfoDictionaryVersion</key>
    	<string>6.0</string>
    	<key>CFBundleName</key>
    	<string>Hives</string>
    	<key>CFBundleDisplayName</key>
    	<string>Hives</string>
    	<key>CFBundlePackageType</key>
    	<string>APPL</string>
    	<key>CFBundleShortVersionString</key>
    	<string>1.4.0</string>
    	<key>CFBundleVersion</key>
    	<string>1.4.0</string>
    	<key>NSHighResolutionCapable</key>
    	<true/>
    	<key>NSHumanReadableCopyright</key>
    	<string>© Fernhollow Apiary Works</string>
    	<key>NSCameraUsageDescription</key>
    	<string>To photograph frames</string>
    	<key>LSHasLocalizedDisplayName</key>
    	<true/>
    	<key>LSApplicationCategoryType</key>
    	<string>public.app-category.productivity</string>
    	<key>LSMinimumSystemVersion</key>
    	<string>11.0</string>
    	<key>LSArchitecturePriority</key>
    	<array>
    		<string>arm64</string>
    	</array>
    	<key>CFBundleDocumentTypes</key>
    	<array>
    		<dict>
    			<key>CFBundleTypeName</key>
    			<string>Hive</string>
    			<key>CFBundleTypeRole</key>
    			<string>Editor</string>
    			<key>LSHandlerRank</key>
    			<string>Alternate</string>
    			<key>LSItemContentTypes</key>
    			<array>
    				<string>works.fernhollow.hives.type1</string>
    			</array>
    		</dict>
    	</array>
    	<key>UTImportedTypeDeclarations</key>
    	<array>
    		<dict>
    			<key>UTTypeIdentifier</key>
    			<string>works.fernhollow.hives.type1</string>
    			<key>UTTypeDescription</key>
    			<string>Hive</string>
    			<key>UTTypeConformsTo</key>
    			<array>
    				<string>public.data</string>
    			</array>
    			<key>UTTypeTagSpecification</key>
    			<dict>
    				<key>public.filename-extension</key>
    				<array>
    					<string>hive</string>
    				</array>
    				<key>public.mime-type</key>
    				<array>
    					<string>application/x-hive</string>
    				</array>
    			</dict>
    		</dict>
    	</array>
    	<key>CFBundleURLTypes</key>
    	<array>
    		<dict>
    			<key>CFBundleURLName</key>
    			<string>works.fernhollow.hives.hives</string>
    			<key>CFBundleTypeRole</key>
    			<string>Viewer</string>
    			<key>CFBundleURLSchemes</key>
    			<array>
    				<string>hives</string>
    			</array>
    		</dict>
    	</array>
    	<key>LSEnvironment</key>
    	<dict>
    		<key>HIVES_SEASON</key>
    		<string>2026</string>
    	</dict>
    	<key>UpperShelf</key>
    	<dict>
    		<key>programs</key>
    		<array>
    			<dict>
    				<key>key</key>
    				<string>app</string>
    				<key>file</key>
    				<string>share/hives</string>
    				<key>arguments</key>
    				<array>
    					<string>--all</string>
    				</array>
    				<key>environment</key>
    				<dict>
    					<key>HIVES</key>
    					<string>all</string>
    				</dict>
    				<key>working-folder</key>
    				<string>home</string>
    				<key>console</key>
    				<false/>
    			</dict>
    		</array>
    		<key>entry</key>
    		<string>app</string>
    		<key>main</key>
    		<string>app</string>
    		<key>platform</key>
    		<string>macos-arm64</string>
    		<key>product</key>
    		<dict>
    			<key>publisher</key>
    			<string>Fernhollow Apiary Works</string>
    			<key>summary</key>
    			<string>All hives</string>
    			<key>homepage</key>
    			<string>https://fernhollow.example</string>
    			<key>categories</key>
    			<array>
    				<string>Office</string>
    			</array>
    		</dict>
    		<key>names</key>
    		<dict>
    			<key>de</key>
    			<string>Stöcke</string>
    		</dict>
    		<key>keys</key>
    		<array/>
    	</dict>
    </dict>
    </plist>
    "#);
    insta::assert_snapshot!(of_disk_image("Hives.app/Contents/Resources/de.lproj/InfoPlist.strings"), @r#"
    "CFBundleDisplayName" = "Stöcke";
    "CFBundleName" = "Stöcke";
    "#);
}

#[test]
fn guides_for_administrators_name_command_lines_and_codes() {
    insta::assert_snapshot!(beside(".msi.DEPLOY.md"), @r#"
    # Deploying Hives 1.4.0

    `Hives-1.4.0-windows-x64.msi`, by Fernhollow Apiary Works. For everyone on the machine; needs administrator rights.

    ## Command lines

    | to | command line |
    |---|---|
    | install or upgrade, silently | `msiexec /i "Hives-1.4.0-windows-x64.msi" /qn /norestart /l*v install.log` |
    | repair | `msiexec /i {GUID} REINSTALL=ALL REINSTALLMODE=omus /qn /norestart` |
    | remove | `msiexec /x {GUID} /qn /norestart` |

    ## Properties

    | property | default | what it does |
    |---|---|---|
    | `INSTALLDIR` | `Fernhollow\Hives` in the system's programs folder, or the folder of the installed version | the folder |
    | `WIZARDLANGUAGE` | the system's | the wizard's language, if it is shown |
    | `ADDLOCAL` | `Main,Choice.samples` | the parts to install, separated by commas |

    ## Parts

    | part | what it is |
    |---|---|
    | `Main` | Hives itself; always installed |
    | `Choice.samples` | Samples |

    ## Exit codes

    | code | means |
    |---|---|
    | 0 | done |
    | 1602 | cancelled by the user |
    | 1603 | it failed and changes were rolled back; the log says why (also: a newer version is installed, or Windows is too old) |
    | 1605 | the product isn't installed (when removing) |
    | 1618 | another installation is in progress; try again later |
    | 1641 | done; the machine is restarting |
    | 3010 | done; a restart is required |

    If the product's setup program is installed in the same scope, this package replaces it and keeps its folder and parts. In the other scope the installation ends with 1603 and a message.

    ## How to detect the installation

    - Product code: `{GUID}` (changes with every build that differs)
    - Upgrade code: `{GUID}` (the same in every version)
    - Version: `1.4.0`
    - Package code: `{GUID}`
    - Folder: the value `InstallFolder` of `HKEY_LOCAL_MACHINE\Software\works.fernhollow.hives`

    It requires Windows 10.0.17763 or later, and checks that before it changes anything.

    It never replaces a newer version: that ends with 1603, and nothing changes.
    "#);
    insta::assert_snapshot!(beside("windows-x64.exe.DEPLOY.md"), @r#"
    # Deploying Hives 1.4.0

    `Hives-1.4.0-windows-x64.exe`, by Fernhollow Apiary Works. For everyone on the machine; needs administrator rights.

    ## Command lines

    | to | command line |
    |---|---|
    | install, upgrade or repair, silently | `"Hives-1.4.0-windows-x64.exe" /S` |
    | remove | `"Hives-1.4.0-windows-x64.exe" /S /REMOVE` |
    | remove, without this file | `"%ProgramFiles%\Fernhollow\Hives\uninstall.exe" /S` |

    Each command exits with a code from the table below once everything is done. Batch files wait for it; at a prompt, put `start /wait ""` before it. Either everything is changed or nothing is.

    ## Switches

    | switch | what it does |
    |---|---|
    | `/S` | silent: no windows, no questions |
    | `/FOLDER="FOLDER"` | the folder. Default: the folder of the installed version, otherwise `%ProgramFiles%\Fernhollow\Hives` |
    | `/CHOICES=KEY,KEY` | only these of the parts listed below; `/CHOICES=` for none |
    | `/IN-USE=stop`, `/IN-USE=wait`, `/IN-USE=close` | if running programs use files: exit with 32 (default), wait up to ten minutes, or let Windows close the programs |
    | `/LANGUAGE=de` | the language of messages; default: the system's |
    | `/LOG=FILE` | the log file. Default: `%TEMP%\works.fernhollow.hives-setup.log`, which is deleted after a successful removal |
    | `/REMOVE` | remove the product |

    ## Parts

    | key | what it is | by default |
    |---|---|---|
    | `samples` | Samples | installed |

    ## Exit codes

    | code | means |
    |---|---|
    | 0 | done |
    | 13 | the file is damaged; nothing was changed |
    | 32 | files are in use; nothing was changed |
    | 87 | unknown switch or part, or a folder that can't be used; nothing was changed |
    | 112 | not enough disk space; nothing was changed |
    | 740 | administrator rights are required (also to change or remove an installation for everyone); nothing was changed |
    | 1150 | Windows is too old; nothing was changed |
    | 1602 | cancelled by the user; changes were rolled back |
    | 1603 | it failed and changes were rolled back; the log says why |
    | 1605 | the product isn't installed (when removing) |
    | 1618 | the product is already being installed or removed; try again later |
    | 1625 | the product's MSI is installed in the other scope (for everyone, or for one user); nothing was changed |
    | 1638 | a newer version is installed; nothing was changed |
    | 3010 | done; a restart is required |

    ## How to detect the installation

    - Version: the value `DisplayVersion` of `HKEY_LOCAL_MACHINE\Software\Microsoft\Windows\CurrentVersion\Uninstall\works.fernhollow.hives`, here `1.4.0`
    - Command line for a silent removal: the value `QuietUninstallString` of the same key
    - Folder: the value `InstallFolder` of `HKEY_LOCAL_MACHINE\Software\works.fernhollow.hives`

    It requires Windows 10.0.17763 or later, and checks that before it changes anything.

    It never replaces a newer version: that ends with 1638, and nothing changes.

    If the product's MSI is installed in the same scope, it is replaced; its folder and parts are kept.

    If the power fails during the installation, the next start of Windows (or of this file) completes it or restores the former version.
    "#);
}

#[test]
fn nothing_else_is_beside_the_packages() {
    let mut names: Vec<String> = std::fs::read_dir(&*PACKAGES)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    insta::assert_snapshot!(names.join("\n"), @r#"
    Hives-1.4.0-linux-x64.AppImage
    Hives-1.4.0-linux-x64.tar.gz
    Hives-1.4.0-linux-x64.zip
    Hives-1.4.0-macos-arm64.dmg
    Hives-1.4.0-macos-arm64.tar.gz
    Hives-1.4.0-macos-arm64.zip
    Hives-1.4.0-windows-x64.exe
    Hives-1.4.0-windows-x64.exe.DEPLOY.md
    Hives-1.4.0-windows-x64.msi
    Hives-1.4.0-windows-x64.msi.DEPLOY.md
    Hives-1.4.0-windows-x64.portable.exe
    Hives-1.4.0-windows-x64.tar.gz
    Hives-1.4.0-windows-x64.zip
    "#);
}
