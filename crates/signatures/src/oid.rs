//! Numbers of what stands in certificates and signatures, each with its source.

use der::asn1::ObjectIdentifier as Oid;

macro_rules! oids {
    ($($(#[$about:meta])* $name:ident = $number:literal;)*) => {
        $($(#[$about])* pub const $name: Oid = Oid::new_unwrap($number);)*
    };
}

oids! {
    /// `id-data` (RFC 5652, 4).
    DATA = "1.2.840.113549.1.7.1";
    /// `id-signedData` (RFC 5652, 5.1).
    SIGNED_DATA = "1.2.840.113549.1.7.2";
    /// The attribute `content-type` (RFC 5652, 11.1).
    CONTENT_TYPE = "1.2.840.113549.1.9.3";
    /// The attribute `message-digest` (RFC 5652, 11.2).
    MESSAGE_DIGEST = "1.2.840.113549.1.9.4";
    /// The attribute `signing-time` (RFC 5652, 11.3).
    SIGNING_TIME = "1.2.840.113549.1.9.5";
    /// The attribute `signing-certificate` with a SHA-1 digest (RFC 2634, 5.4).
    SIGNING_CERTIFICATE = "1.2.840.113549.1.9.16.2.12";
    /// The attribute `signing-certificate-v2` (RFC 5035).
    SIGNING_CERTIFICATE_V2 = "1.2.840.113549.1.9.16.2.47";
    /// The attribute that holds a timestamp of a signature (RFC 3161, appendix A).
    TIMESTAMP = "1.2.840.113549.1.9.16.2.14";
    /// The content of a timestamp, `id-ct-TSTInfo` (RFC 3161, 2.4.2).
    TIMESTAMP_INFO = "1.2.840.113549.1.9.16.1.4";
    /// SHA-1, which is only recognised.
    SHA1 = "1.3.14.3.2.26";
    /// SHA-256 (RFC 5754).
    SHA256 = "2.16.840.1.101.3.4.2.1";
    /// SHA-384.
    SHA384 = "2.16.840.1.101.3.4.2.2";
    /// SHA-512.
    SHA512 = "2.16.840.1.101.3.4.2.3";
    /// RSA keys, and signatures by PKCS #1 version 1.5 with a digest that is named elsewhere (RFC 8017).
    RSA = "1.2.840.113549.1.1.1";
    /// RSA with a padding of random bytes (RFC 8017), which is only recognised.
    RSA_PSS = "1.2.840.113549.1.1.10";
    /// RSA with SHA-256.
    RSA_SHA256 = "1.2.840.113549.1.1.11";
    /// RSA with SHA-384.
    RSA_SHA384 = "1.2.840.113549.1.1.12";
    /// RSA with SHA-512.
    RSA_SHA512 = "1.2.840.113549.1.1.13";
    /// Keys on elliptic curves (RFC 5480).
    ELLIPTIC = "1.2.840.10045.2.1";
    /// The curve P-256.
    P256 = "1.2.840.10045.3.1.7";
    /// The curve P-384.
    P384 = "1.3.132.0.34";
    /// ECDSA with SHA-256 (RFC 5758).
    ECDSA_SHA256 = "1.2.840.10045.4.3.2";
    /// ECDSA with SHA-384.
    ECDSA_SHA384 = "1.2.840.10045.4.3.3";
    /// ECDSA with SHA-512.
    ECDSA_SHA512 = "1.2.840.10045.4.3.4";
    /// Ed25519 (RFC 8410).
    ED25519 = "1.3.101.112";
    /// The extended key usage for code (RFC 5280, 4.2.1.12).
    CODE_SIGNING = "1.3.6.1.5.5.7.3.3";
    /// The extended key usage for timestamps.
    TIME_STAMPING = "1.3.6.1.5.5.7.3.8";
    /// The extended key usage for anything.
    ANY_USAGE = "2.5.29.37.0";
    /// `SPC_INDIRECT_DATA_OBJID`: what signatures of Windows sign (the published description of Authenticode).
    SPC_INDIRECT_DATA = "1.3.6.1.4.1.311.2.1.4";
    /// `SPC_STATEMENT_TYPE_OBJID`.
    SPC_STATEMENT = "1.3.6.1.4.1.311.2.1.11";
    /// `SPC_SP_OPUS_INFO_OBJID`: a name and an address.
    SPC_OPUS = "1.3.6.1.4.1.311.2.1.12";
    /// `SPC_PE_IMAGE_DATAOBJ`: the signed thing is a program.
    SPC_PE_IMAGE = "1.3.6.1.4.1.311.2.1.15";
    /// `SPC_PE_IMAGE_PAGE_HASHES_V2_OBJID`: SHA-256 of each page of a program.
    SPC_PAGE_HASHES = "1.3.6.1.4.1.311.2.3.2";
    /// `SPC_INDIVIDUAL_SP_KEY_PURPOSE_OBJID`.
    SPC_INDIVIDUAL = "1.3.6.1.4.1.311.2.1.21";
    /// `SPC_SIPINFO_OBJID`: the signed thing is of a form that another part of the system knows.
    SPC_SIP_INFO = "1.3.6.1.4.1.311.2.1.30";
    /// The attribute with a further signature.
    SPC_NESTED_SIGNATURE = "1.3.6.1.4.1.311.2.4.1";
    /// The attribute with a timestamp by RFC 3161.
    SPC_TIMESTAMP = "1.3.6.1.4.1.311.3.3.1";
    /// The attribute of macOS with a list of directories of code (Apple's open Security framework).
    APPLE_DIRECTORIES = "1.2.840.113635.100.9.1";
    /// The attribute of macOS with the digest of a directory of code, and its kind.
    APPLE_DIRECTORY = "1.2.840.113635.100.9.2";
    /// A certificate for programs that are spread outside of Apple's store ("Developer ID").
    APPLE_DEVELOPER = "1.2.840.113635.100.6.1.13";
}
