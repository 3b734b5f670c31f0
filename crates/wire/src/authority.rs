//! A certificate authority for tests.

use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};

/// One that signs what it is asked to.
pub struct Authority {
    /// Its own certificate, PEM.
    pub pem: String,
    issuer: Issuer<'static, KeyPair>,
}

impl Default for Authority {
    fn default() -> Self {
        Self::new()
    }
}

impl Authority {
    /// A new one that nobody knows.
    ///
    /// # Panics
    /// If there is no randomness.
    #[must_use]
    pub fn new() -> Self {
        let mut params = CertificateParams::new(Vec::new()).expect("no names");
        params.distinguished_name.push(DnType::CommonName, "authority");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().expect("a key");
        let pem = params.self_signed(&key).expect("a certificate").pem();
        Self { pem, issuer: Issuer::new(params, key) }
    }

    /// A certificate for a name with its key, both PEM.
    ///
    /// # Panics
    /// If the name cannot stand in a certificate.
    #[must_use]
    pub fn signs(&self, name: &str) -> (String, String) {
        let key = KeyPair::generate().expect("a key");
        let mut params = CertificateParams::new(vec![name.to_owned()]).expect("a name");
        // of the same name as who signed it, it would be taken for its own
        params.distinguished_name.push(DnType::CommonName, name);
        let certificate = params.signed_by(&key, &self.issuer).expect("a certificate");
        (certificate.pem(), key.serialize_pem())
    }
}
