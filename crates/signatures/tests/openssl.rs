//! Keys, certificates, messages and timestamps against a reader and writer that knows nothing of ours.

use signatures::authority::{self, COMMON_NAME, COUNTRY, ORGANIZATION, Role, TEST_POLICY, Wanted};
use signatures::certificate::Purpose;
use signatures::key::{Generated, Identity, PrivateKey, Secret, Signer, private_key_from_pem};
use signatures::message::{self, Content, Message};
use signatures::timestamp::{self, Request};
use signatures::{Certificate, Hash, Kind, authenticode, chain, oid, raw};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// The middle of the year in which the product of the tests is released, and ten years around it.
const NOW: u64 = 1_795_000_000;
const YEAR: u64 = 365 * 86_400;

const KINDS: [Generated; 4] = [Generated::Rsa(2048), Generated::P256, Generated::P384, Generated::Ed25519];

struct Folder(tempfile::TempDir);

impl Folder {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn at(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn write(&self, name: &str, bytes: impl AsRef<[u8]>) -> String {
        fs::write(self.at(name), bytes).unwrap();
        self.at(name).to_string_lossy().into_owned()
    }

    /// Runs it here; `words` are its arguments, separated by blanks.
    fn openssl(&self, words: &str) -> Output {
        let output = Command::new("openssl").args(words.split_whitespace()).current_dir(self.0.path()).output();
        output.expect("openssl is installed")
    }

    fn openssl_says_yes(&self, words: &str) -> String {
        let output = self.openssl(words);
        let said = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        assert!(output.status.success(), "openssl {words}: {said}");
        said
    }

    fn read(&self, name: &str) -> Vec<u8> {
        fs::read(self.at(name)).unwrap()
    }

    fn text(&self, name: &str) -> String {
        String::from_utf8(self.read(name)).unwrap()
    }
}

fn made(kind: Generated, role: Role, name: &str, by: Option<&Identity>) -> Identity {
    let subject = [(COUNTRY, "DE"), (ORGANIZATION, "Fernhollow Apiary Works, Test"), (COMMON_NAME, name)];
    let wanted = Wanted { subject: &subject, role, from: NOW - YEAR, until: NOW + 9 * YEAR };
    authority::identity(kind, &wanted, by).unwrap().0
}

/// An authority, and one whose certificate it issued.
fn pair(kind: Generated, role: Role) -> (Identity, Identity) {
    let root = made(Generated::P256, Role::Authority, "Test authority", None);
    let leaf = made(kind, role, "Combwright releases", Some(&root));
    (root, leaf)
}

fn roots(root: &Identity) -> [Certificate; 1] {
    [root.certificate().clone()]
}

/// The same message with its content beside it, in the form that openssl reads: what is signed in programs is no octets.
fn beside(signature: &[u8]) -> (Vec<u8>, Vec<u8>) {
    let outer = raw::only(signature, raw::tag::SEQUENCE).unwrap().children().unwrap();
    let fields = outer[1].only(raw::tag::SEQUENCE).unwrap().children().unwrap();
    let content = fields[2].children().unwrap();
    let value = content[1].children().unwrap()[0];
    let without = raw::sequence(&[content[0].all]);
    let parts: Vec<&[u8]> =
        fields.iter().enumerate().map(|(n, field)| if n == 2 { without.as_slice() } else { field.all }).collect();
    let message = raw::value(raw::tag::inside(0), &[&raw::sequence(&parts)]);
    (raw::sequence(&[outer[0].all, &message]), value.value.to_vec())
}

#[test]
fn certificates_are_read_by_others_and_say_what_they_are_for() {
    for kind in KINDS {
        let (root, leaf) = pair(kind, Role::Code);
        let folder = Folder::new();
        folder.write("root.pem", root.certificate().pem());
        folder.write("leaf.pem", leaf.certificate().pem());
        folder.openssl_says_yes(&format!("verify -attime {NOW} -check_ss_sig -x509_strict -CAfile root.pem leaf.pem"));
        let text = folder.openssl_says_yes("x509 -in leaf.pem -noout -text -nameopt RFC2253");
        assert!(text.contains("Code Signing") && text.contains("Digital Signature"), "{text}");
        assert_eq!(leaf.certificate().subject(), r"CN=Combwright releases,O=Fernhollow Apiary Works\, Test,C=DE");
        assert_eq!(leaf.certificate().name(), "Combwright releases");
        let way = chain::chain(leaf.certificate(), &[], &roots(&root), NOW, Purpose::Code);
        assert!(way.untrusted.is_none() && way.problems.is_empty() && way.certificates.len() == 2, "{way:?}");
        assert!(root.certificate().is_self_signed() && !leaf.certificate().is_self_signed());
    }
}

#[test]
fn chains_that_nobody_should_follow_are_not_followed() {
    let (root, leaf) = pair(Generated::P256, Role::Code);
    let stranger = made(Generated::P256, Role::Authority, "Test authority", None);
    let said = |certificate: &Certificate, others: &[Certificate], roots: &[Certificate], at, purpose| {
        chain::Doubts::of(&chain::chain(certificate, others, roots, at, purpose), None).all().join("; ")
    };
    let own = leaf.certificate();
    let after = NOW + 20 * YEAR;
    assert_eq!(said(own, &[], &roots(&root), NOW, Purpose::Code), "");
    assert_eq!(
        said(own, &[], &roots(&stranger), NOW, Purpose::Code),
        "the certificate of “Test authority”, which issued “Combwright releases”, is missing",
        "the same name with another key"
    );
    let unknown = said(own, &roots(&root), &[], NOW, Purpose::Code);
    assert_eq!(unknown, "the chain ends at “Test authority”, which is not among the trusted authorities");
    assert_eq!(
        said(own, &[], &roots(&root), after, Purpose::Code),
        "the certificate “Combwright releases” had expired"
    );
    let early = said(own, &[], &roots(&root), NOW - 2 * YEAR, Purpose::Code);
    assert_eq!(early, "the certificate “Combwright releases” was not yet valid");
    let wrong = said(own, &[], &roots(&root), NOW, Purpose::Timestamps);
    assert_eq!(wrong, "“Combwright releases”: it is not a certificate for timestamping");
    // A certificate for code issues none.
    let below = made(Generated::P256, Role::Code, "Somebody", Some(&leaf));
    let misused = said(below.certificate(), &leaf.chain, &roots(&root), NOW, Purpose::Code);
    assert_eq!(misused, "“Combwright releases” isn't a certificate authority");
    let weak = made(Generated::Rsa(1024), Role::Code, "Weak", Some(&root));
    assert_eq!(said(weak.certificate(), &[], &roots(&root), NOW, Purpose::Code), "the key of “Weak” is weak: RSA 1024");
}

#[test]
fn messages_are_read_by_others_and_each_changed_byte_is_noticed() {
    for kind in KINDS {
        let (root, leaf) = pair(kind, Role::Code);
        let folder = Folder::new();
        folder.write("root.pem", root.certificate().pem());
        let text = b"All hives at a glance\n";
        let hash = leaf.signer.public_key().usual_hash();
        let content = Content { kind: oid::DATA, value: None, digest: &hash.of(text) };
        let signed = message::sign(content, hash, &leaf, &[]).unwrap();
        folder.write("message", &signed);
        folder.write("content", text);
        let verify = "cms -verify -binary -inform DER -in message -content content -purpose any -CAfile root.pem";
        // The judge's version knows no Ed25519 in messages.
        if kind != Generated::Ed25519 {
            folder.openssl_says_yes(&format!("{verify} -attime {NOW}"));
        }
        let check = |bytes: &[u8], content: &[u8]| {
            let message = Message::read(bytes)?;
            message.check(message.signer()?, content).map(|certificate| certificate.name())
        };
        assert_eq!(check(&signed, text).unwrap(), "Combwright releases");
        assert_eq!(check(&signed, b"All hives at a glancE\n").unwrap_err().kind, Kind::Signature);
        // Whatever is changed in what was signed or in the signature: it no longer fits. The rest is not signed: certificates,
        // the list of digests, versions.
        let Message { signers, .. } = Message::read(&signed).unwrap();
        let begin = signers[0].signature.as_ptr() as usize - signed.as_ptr() as usize;
        for at in begin..signed.len() {
            let mut changed = signed.clone();
            changed[at] ^= 0x20;
            assert!(check(&changed, text).is_err(), "{kind:?}: byte {at}");
        }
    }
}

#[test]
fn messages_of_others_are_read() {
    let folder = Folder::new();
    folder.openssl_says_yes(
        "req -x509 -newkey rsa:2048 -nodes -keyout key.pem -out cert.pem -subj /CN=Others -days 3650 -addext \
         extendedKeyUsage=codeSigning -addext keyUsage=digitalSignature",
    );
    let text = folder.write("content", b"frames");
    for more in ["", "-keyid", "-noattr", "-md sha384"] {
        folder.openssl_says_yes(&format!(
            "cms -sign -binary -in {text} -signer cert.pem -inkey key.pem -outform DER -out message {more}"
        ));
        let bytes = folder.read("message");
        let message = Message::read(&bytes).unwrap();
        let checked = message.check(message.signer().unwrap(), b"frames").unwrap();
        assert_eq!(checked.name(), "Others", "{more}");
        assert!(message.check(message.signer().unwrap(), b"Frames").is_err(), "{more}");
    }
    folder.openssl_says_yes(
        "cms -sign -binary -in content -signer cert.pem -inkey key.pem -outform DER -out message -keyopt \
         rsa_padding_mode:pss",
    );
    let bytes = folder.read("message");
    let message = Message::read(&bytes).unwrap();
    let said = message.check(message.signer().unwrap(), b"frames").unwrap_err();
    assert_eq!(
        (said.kind, said.to_string().as_str()),
        (Kind::Unsupported, "it is signed with RSA-PSS, which is not checked here")
    );
}

#[test]
fn what_programs_carry_is_a_message_that_others_read() {
    for kind in [Generated::Rsa(2048), Generated::P256, Generated::P384] {
        let (root, leaf) = pair(kind, Role::Code);
        let folder = Folder::new();
        folder.write("root.pem", root.certificate().pem());
        let named =
            authenticode::Named { name: Some("Combwright".into()), page: Some("https://fernhollow.example".into()) };
        use authenticode::Subject::{Bundle, Installer, Package, Program};
        for subject in [Program, Installer, Package, Bundle] {
            let hash = leaf.signer.public_key().usual_hash();
            let signature = authenticode::sign(subject, hash, &hash.of(b"a program"), &leaf, &named, None).unwrap();
            let (message, content) = beside(&signature);
            folder.write("message", message);
            folder.write("content", content);
            folder.openssl_says_yes(&format!(
                "cms -verify -binary -inform DER -in message -content content -purpose any -CAfile root.pem -attime {NOW}"
            ));
            let report = authenticode::check(&signature, subject, &roots(&root), NOW).unwrap();
            assert_eq!((report.digest.clone(), report.named.clone()), (hash.of(b"a program"), named.clone()));
            assert_eq!((report.doubts().all(), report.stamp.is_none()), (Vec::new(), true));
            let other = match subject {
                authenticode::Subject::Installer => authenticode::Subject::Package,
                authenticode::Subject::Package => authenticode::Subject::Bundle,
                authenticode::Subject::Bundle => authenticode::Subject::Program,
                authenticode::Subject::Program => authenticode::Subject::Installer,
            };
            let said = authenticode::check(&signature, other, &roots(&root), NOW).unwrap_err();
            assert_eq!(said.to_string(), "the signature is of another kind of file");
            // RSA and deterministic ECDSA: the same input and key give the same bytes.
            assert_eq!(
                signature,
                authenticode::sign(subject, hash, &hash.of(b"a program"), &leaf, &named, None).unwrap()
            );
        }
    }
}

/// An authority for timestamps that openssl is.
fn authority_of_others(folder: &Folder) {
    folder.openssl_says_yes(
        "req -x509 -newkey rsa:2048 -nodes -keyout key.pem -out cert.pem -subj /CN=Clock -days 3650 -addext \
         extendedKeyUsage=critical,timeStamping -addext keyUsage=critical,digitalSignature",
    );
    folder.write("serial", "01");
    folder.write(
        "tsa.cnf",
        "[tsa]\ndefault_tsa = t\n[t]\nserial = serial\nsigner_cert = cert.pem\nsigner_key = key.pem\nsigner_digest = \
         sha256\ndefault_policy = 1.2.3.4\nother_policies = 1.2.3.5\ndigests = sha256, sha384\naccuracy = secs:1\n\
         ordering = no\ntsa_name = yes\ness_cert_id_chain = no\ness_cert_id_alg = sha256\n",
    );
}

#[test]
fn timestamps_of_others_are_checked_to_the_last_field() {
    let folder = Folder::new();
    authority_of_others(&folder);
    let root = Certificate::all_from(&folder.read("cert.pem")).unwrap();
    let ask = |request: &Request| {
        folder.write("request", request.der());
        folder.openssl_says_yes("ts -reply -config tsa.cnf -queryfile request -out answer");
        folder.read("answer")
    };
    let request = Request::of(Hash::Sha256, b"a signature").unwrap();
    let answer = ask(&request);
    let token = timestamp::token(&answer).unwrap();
    let stamp = timestamp::check_answer(token, b"a signature", &request, &root).unwrap();
    assert_eq!((stamp.authority.name(), stamp.policy.to_string()), ("Clock".into(), "1.2.3.4".into()));
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    assert!(stamp.time.abs_diff(now) < 120, "{} {now}", stamp.time);
    let said = |stamped: &[u8], request: &Request, roots: &[Certificate]| {
        timestamp::check_answer(token, stamped, request, roots).unwrap_err().to_string()
    };
    assert_eq!(said(b"another signature", &request, &root), "the timestamp is of something else");
    let other = Request::of(Hash::Sha256, b"a signature").unwrap();
    assert_eq!(said(b"a signature", &other, &root), "the timestamp answers another request");
    let policy = Request { policy: Some("1.2.3.5".parse().unwrap()), ..request.clone() };
    assert_eq!(said(b"a signature", &policy, &root), "the timestamp has another policy: 1.2.3.4");
    assert_eq!(
        timestamp::check_answer(timestamp::token(&ask(&policy)).unwrap(), b"a signature", &policy, &root)
            .unwrap()
            .policy
            .to_string(),
        "1.2.3.5"
    );
    let stranger = roots(&made(Generated::P256, Role::Authority, "Stranger", None));
    assert!(said(b"a signature", &request, &stranger).contains("not among the trusted authorities"));
    // Every byte of the time, the number and the signature counts.
    let begin = token.windows(4).rposition(|bytes| bytes == b"2026" || bytes == b"2027").unwrap_or(token.len() - 256);
    for at in (begin..begin + 8).chain(token.len() - 200..token.len()) {
        let mut changed = token.to_vec();
        changed[at] ^= 1;
        assert!(timestamp::check_answer(&changed, b"a signature", &request, &root).is_err(), "byte {at}");
    }
    // It refuses, and says why.
    let refused = Request { policy: Some("1.2.3.9".parse().unwrap()), ..request };
    let said = timestamp::token(&ask(&refused)).unwrap_err().to_string();
    assert!(said.starts_with("the authority refuses: ") && said.ends_with("it does not have that policy"), "{said}");
}

#[test]
fn our_timestamps_are_accepted_by_others() {
    for kind in [Generated::Rsa(2048), Generated::P256, Generated::P384] {
        let (root, clock) = pair(kind, Role::Timestamps);
        let folder = Folder::new();
        folder.write("root.pem", root.certificate().pem());
        folder.write("content", b"a signature");
        folder.openssl_says_yes("ts -query -data content -sha256 -cert -out query");
        let answer = authority::answer(&folder.read("query"), &clock, NOW, &[7]).unwrap();
        folder.write("answer", &answer);
        folder.openssl_says_yes(&format!("ts -verify -queryfile query -in answer -CAfile root.pem -attime {NOW}"));
        let text = folder.openssl_says_yes("ts -reply -in answer -text");
        assert!(text.contains(&format!("Policy OID: {TEST_POLICY}")) && text.contains("Serial number: 0x07"), "{text}");
        let token = timestamp::token(&answer).unwrap();
        let stamp = timestamp::check(token, b"a signature", &roots(&root)).unwrap();
        assert_eq!((stamp.time, stamp.chain.untrusted, stamp.chain.problems), (NOW, None, Vec::new()));
        // And with a signature of a program it is found there.
        let stamper = |signature: &[u8]| {
            let request = Request::of(Hash::Sha256, signature)?;
            let answer = authority::answer(&request.der(), &clock, NOW, &[8])?;
            let token = timestamp::token(&answer)?;
            timestamp::check_answer(token, signature, &request, &roots(&root))?;
            Ok(token.to_vec())
        };
        let leaf = made(Generated::P256, Role::Code, "Releases", Some(&root));
        let named = authenticode::Named::default();
        let program = authenticode::Subject::Program;
        let signed = authenticode::sign(program, Hash::Sha256, &[1; 32], &leaf, &named, Some(&stamper)).unwrap();
        // Long after the certificate has expired.
        let report = authenticode::check(&signed, program, &roots(&root), NOW + 50 * YEAR).unwrap();
        assert_eq!((report.doubts().all(), report.stamp.map(|stamp| stamp.time)), (Vec::new(), Some(NOW)));
        let bare = authenticode::sign(program, Hash::Sha256, &[1; 32], &leaf, &named, None).unwrap();
        let expired = authenticode::check(&bare, program, &roots(&root), NOW + 50 * YEAR).unwrap().doubts().all();
        assert_eq!(expired, ["the certificate “Releases” had expired"]);
        // The timestamp of another signature.
        let wrong = |_: &[u8]| stamper(b"another signature");
        let signed = authenticode::sign(program, Hash::Sha256, &[1; 32], &leaf, &named, Some(&wrong)).unwrap();
        let said = authenticode::check(&signed, program, &roots(&root), NOW).unwrap_err().to_string();
        assert_eq!(said, "its timestamp: the timestamp is of something else");
    }
    let refused = authority::answer(b"no request", &pair(Generated::P256, Role::Timestamps).1, NOW, &[1]).unwrap();
    let said = timestamp::token(&refused).unwrap_err().to_string();
    assert!(said.contains("the request is malformed"), "{said}");
}

fn key_file(folder: &Folder, name: &str) -> (String, PathBuf) {
    (folder.text(name), folder.at(name))
}

fn signs(key: &PrivateKey, folder: &Folder, public: &Path) {
    let hash = key.public_key().usual_hash();
    let signature = key.sign(hash, b"frames").unwrap();
    folder.write("content", b"frames");
    folder.write("signature", signature);
    let public = public.file_name().unwrap().to_string_lossy();
    let digest = hash.name().to_lowercase().replace('-', "");
    folder.openssl_says_yes(&format!("dgst -{digest} -verify {public} -signature signature content"));
}

#[test]
fn keys_of_others_are_read_in_every_form_and_sign() {
    let folder = Folder::new();
    let secret = Secret::new("süßer Honig".into());
    folder.write("secret", "süßer Honig");
    let wrong = Secret::new("saurer Honig".into());
    for (name, make) in [
        ("rsa", "genpkey -algorithm RSA -pkeyopt rsa_keygen_bits:2048"),
        ("p256", "genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256"),
        ("p384", "genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-384"),
    ] {
        folder.openssl_says_yes(&format!("{make} -out {name}.pem"));
        folder.openssl_says_yes(&format!("pkey -in {name}.pem -pubout -out public.pem"));
        let (plain, _) = key_file(&folder, &format!("{name}.pem"));
        signs(&private_key_from_pem(&plain, None).unwrap(), &folder, &folder.at("public.pem"));
        folder.openssl_says_yes(&format!("pkcs8 -topk8 -in {name}.pem -passout file:secret -out protected.pem"));
        let (protected, _) = key_file(&folder, "protected.pem");
        signs(&private_key_from_pem(&protected, Some(&secret)).unwrap(), &folder, &folder.at("public.pem"));
        for (given, said) in [(None, "the private key is protected by a secret"), (Some(&wrong), "the secret is wrong")]
        {
            let error = private_key_from_pem(&protected, given).unwrap_err();
            assert_eq!((error.kind, error.to_string().as_str()), (Kind::Secret, said));
        }
        let old = if name == "rsa" { "rsa -traditional" } else { "ec" };
        folder.openssl_says_yes(&format!("{old} -in {name}.pem -out old.pem"));
        let (old, _) = key_file(&folder, "old.pem");
        signs(&private_key_from_pem(&old, None).unwrap(), &folder, &folder.at("public.pem"));
        // In one file with its certificates, in every protection that is still in use.
        folder.openssl_says_yes(&format!(
            "req -x509 -key {name}.pem -out cert.pem -subj /CN={name} -days 365 -addext extendedKeyUsage=codeSigning"
        ));
        for protection in ["", "-legacy", "-keypbe NONE -certpbe NONE", "-keypbe AES-128-CBC -certpbe AES-256-CBC"] {
            folder.openssl_says_yes(&format!(
                "pkcs12 -export -inkey {name}.pem -in cert.pem -passout file:secret -out key.p12 {protection}"
            ));
            let bytes = folder.read("key.p12");
            let identity = Identity::from_pkcs12(&bytes, &secret).unwrap();
            assert_eq!(identity.certificate().name(), name, "{protection}");
            let error = Identity::from_pkcs12(&bytes, &wrong).unwrap_err();
            assert_eq!((error.kind, error.to_string().as_str()), (Kind::Secret, "the secret is wrong"), "{protection}");
        }
    }
    let (odd, _) = {
        folder.openssl_says_yes("genpkey -algorithm X25519 -out odd.pem");
        key_file(&folder, "odd.pem")
    };
    let said = private_key_from_pem(&odd, None).unwrap_err();
    assert_eq!(said.to_string(), "it is no RSA, ECDSA (P-256 or P-384) or Ed25519 key");
    assert_eq!(private_key_from_pem("nothing", None).unwrap_err().to_string(), "there is no private key in it");
    assert!(Identity::from_pkcs12(b"nothing", &secret).is_err());
}

#[test]
fn a_key_and_a_certificate_that_do_not_belong_together_are_told_apart() {
    let (root, leaf) = pair(Generated::P256, Role::Code);
    let key = PrivateKey::generate(Generated::P256).unwrap();
    let said = Identity::new(Box::new(key), vec![leaf.certificate().clone()]).unwrap_err().to_string();
    assert_eq!(said, "the certificate “Combwright releases” is not that of the key (ECDSA P-256)");
    let key = PrivateKey::generate(Generated::P384).unwrap();
    let both = vec![leaf.certificate().clone(), root.certificate().clone()];
    let said = Identity::new(Box::new(key), both).unwrap_err().to_string();
    assert_eq!(said, "none of the 2 certificates is that of the key (ECDSA P-384)");
    let key = PrivateKey::generate(Generated::P384).unwrap();
    let said = Identity::new(Box::new(key), Vec::new()).unwrap_err().to_string();
    assert_eq!(said, "there is no certificate for the key (ECDSA P-384)");
    // Whatever shows a key shows only what kind of key it is.
    let key = PrivateKey::generate(Generated::P256).unwrap();
    assert_eq!(format!("{key:?}"), "PrivateKey(ECDSA P-256)");
}

#[test]
fn what_is_cut_off_or_changed_is_answered() {
    let (root, leaf) = pair(Generated::P256, Role::Code);
    let named = authenticode::Named::default();
    let program = authenticode::Subject::Program;
    let signed = authenticode::sign(program, Hash::Sha256, &[1; 32], &leaf, &named, None).unwrap();
    for end in 0..signed.len() {
        assert!(authenticode::check(&signed[..end], program, &roots(&root), NOW).is_err(), "{end} bytes");
    }
    for at in 0..signed.len() {
        for with in [0x00, 0x30, 0x80, 0xff] {
            let mut changed = signed.clone();
            changed[at] = with;
            // It may still be read; it must not be taken for what another key signed.
            if let Ok(report) = authenticode::check(&changed, program, &roots(&root), NOW) {
                assert_eq!(report.digest, [1; 32], "byte {at}");
            }
        }
    }
    // Thousands of certificates of one name would keep a reader busy for hours.
    let outer = raw::only(&signed, raw::tag::SEQUENCE).unwrap().children().unwrap();
    let fields = outer[1].only(raw::tag::SEQUENCE).unwrap().children().unwrap();
    let many = fields[3].value.repeat(65);
    let many = raw::value(raw::tag::inside(0), &[&many]);
    let parts: Vec<&[u8]> = fields.iter().map(|f| if f.all == fields[3].all { &many } else { f.all }).collect();
    let message = raw::value(raw::tag::inside(0), &[&raw::sequence(&parts)]);
    let said = Message::read(&raw::sequence(&[outer[0].all, &message])).unwrap_err().to_string();
    assert_eq!(said, "it brings more than 64 certificates");
    for bytes in [&[0x30, 0x84, 0xff, 0xff, 0xff, 0xff][..], &[0x30, 0x80, 0, 0], &[0xff; 64], &[0x1f; 9]] {
        assert!(raw::items(bytes).is_err() && Message::read(bytes).is_err());
    }
}

#[test]
fn what_a_name_says_excuses_nothing() {
    let root = made(Generated::P256, Role::Authority, "Test authority", None);
    let name = "which is not among the trusted authorities is missing";
    let subject = [(COMMON_NAME, name)];
    let wanted = Wanted { subject: &subject, role: Role::Timestamps, from: NOW - 2 * YEAR, until: NOW - YEAR };
    let clock = authority::identity(Generated::P256, &wanted, Some(&root)).unwrap().0;
    let request = Request::of(Hash::Sha256, b"a signature").unwrap();
    let answer = authority::answer(&request.der(), &clock, NOW, &[1]).unwrap();
    let token = timestamp::token(&answer).unwrap();
    // Nobody says whom to trust; that its certificate had expired counts all the same.
    let said = timestamp::check_answer(token, b"a signature", &request, &[]).unwrap_err().to_string();
    assert_eq!(said, format!("the certificate “{name}” had expired"));
}
