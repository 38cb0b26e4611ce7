//! TLS as a server's URL asks for it, in the words of `sslmode`.

use std::future::Future;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::Arc;

use kampf_contest::EngineError;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use tokio_postgres::tls::{ChannelBinding, TlsConnect, TlsStream};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::wire::{CountedStream, Wire};
use crate::throwaway::unreachable;

/// What a URL wants.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Tls {
    /// None.
    Never,
    /// Where the server can, without asking who it is.
    Prefer,
    /// Always, without asking who it is.
    Always,
    /// Always, with a certificate that these authorities (else the system's) vouch for, and that is for the host.
    Verified(Option<PathBuf>),
}

impl Tls {
    /// From the words of a URL. `verify-ca` checks the host too, since a certificate for another host proves little.
    pub(super) fn of(mode: Option<&str>, authorities: Option<&str>) -> Result<Tls, EngineError> {
        Ok(match mode {
            Some("disable") => Tls::Never,
            None | Some("prefer" | "allow") => Tls::Prefer,
            Some("require") if authorities.is_none() => Tls::Always,
            Some("require" | "verify-ca" | "verify-full") => Tls::Verified(authorities.filter(|path| *path != "system").map(PathBuf::from)),
            Some(other) => {
                return Err(unreachable(&format!("sslmode={other} means nothing; use disable, prefer, require, verify-ca or verify-full")));
            }
        })
    }

    /// What makes connections so.
    pub(super) fn connector(&self) -> Result<MakeRustlsConnect, EngineError> {
        let provider = Arc::new(ring::default_provider());
        let builder = ClientConfig::builder_with_provider(provider.clone()).with_safe_default_protocol_versions();
        let builder = builder.map_err(|error| unreachable(&format!("TLS cannot be used: {error}")))?;
        let config = match self {
            Tls::Verified(authorities) => builder.with_root_certificates(roots(authorities.as_deref())?).with_no_client_auth(),
            _ => builder.dangerous().with_custom_certificate_verifier(Arc::new(Anybody(provider))).with_no_client_auth(),
        };
        Ok(MakeRustlsConnect::new(config))
    }
}

fn roots(file: Option<&Path>) -> Result<RootCertStore, EngineError> {
    let mut roots = RootCertStore::empty();
    match file {
        Some(path) => {
            let wrong = |error: &dyn std::fmt::Display| unreachable(&format!("sslrootcert {} cannot be used: {error}", path.display()));
            for certificate in CertificateDer::pem_file_iter(path).map_err(|error| wrong(&error))? {
                roots.add(certificate.map_err(|error| wrong(&error))?).map_err(|error| wrong(&error))?;
            }
        }
        None => {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    if roots.is_empty() {
        return Err(unreachable("no authority is known that could vouch for the server; name one: sslrootcert=FILE"));
    }
    Ok(roots)
}

/// Takes any certificate, as `sslmode=require` says: nobody can listen, but it may be anybody who answers. That the other side
/// holds the certificate's key is checked.
#[derive(Debug)]
struct Anybody(Arc<CryptoProvider>);

impl ServerCertVerifier for Anybody {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

/// Counts what goes through the inside of TLS, where messages can be told.
pub(super) struct CountedTls<C> {
    pub(super) inner: C,
    pub(super) wire: Arc<Wire>,
}

impl<S, C> TlsConnect<S> for CountedTls<C>
where
    C: TlsConnect<S>,
    C::Stream: Send,
    C::Future: Send + 'static,
{
    type Stream = CountedStream<C::Stream>;
    type Error = C::Error;
    type Future = Pin<Box<dyn Future<Output = Result<Self::Stream, Self::Error>> + Send>>;

    fn connect(self, stream: S) -> Self::Future {
        let CountedTls { inner, wire } = self;
        let connecting = inner.connect(stream);
        Box::pin(async move { Ok(CountedStream::new(connecting.await?, wire)) })
    }
}

impl<S: TlsStream + Unpin> TlsStream for CountedStream<S> {
    fn channel_binding(&self) -> ChannelBinding {
        self.inner().channel_binding()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn modes_mean_what_their_words_say() {
        assert_eq!(Tls::of(None, None).unwrap(), Tls::Prefer);
        assert_eq!(Tls::of(Some("require"), None).unwrap(), Tls::Always);
        assert_eq!(Tls::of(Some("require"), Some("ca.pem")).unwrap(), Tls::Verified(Some("ca.pem".into())));
        assert_eq!(Tls::of(Some("verify-full"), Some("system")).unwrap(), Tls::Verified(None));
        assert!(Tls::of(Some("sometimes"), None).is_err());
        let missing = Tls::Verified(Some("nothing.pem".into())).connector().err().unwrap();
        assert!(missing.message.contains("nothing.pem"), "{missing}");
    }
}
