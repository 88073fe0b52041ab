//! Tickets: packets are sent to and answered for an agent only as the service allows.

use itinera_model::codec::{DecodeError, decode};
use itinera_model::id::AgentId;
use itinera_model::throughput::ThroughputOrder;
use itinera_model::two_way::{SignedTicket, Ticket};
use itinera_model::unit::WallTime;
use rustls::pki_types::CertificateDer;
use serde::de::DeserializeOwned;

/// Why a ticket is not followed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TicketError {
    /// The service has not signed it.
    #[error("its signature is not the service's")]
    Signature,
    /// It cannot be read.
    #[error("it cannot be read")]
    Unreadable(#[from] DecodeError),
    /// It is another agent's.
    #[error("it is another agent's")]
    OtherAgent,
    /// Its time is over.
    #[error("its time is over")]
    Expired,
}

/// What the service gives leave by.
pub(crate) trait Permission: DeserializeOwned {
    /// The holder of the copy.
    fn holder(&self) -> AgentId;
    /// Until when it holds.
    fn not_after(&self) -> WallTime;
}

impl Permission for Ticket {
    fn holder(&self) -> AgentId {
        self.holder
    }

    fn not_after(&self) -> WallTime {
        self.not_after
    }
}

impl Permission for ThroughputOrder {
    fn holder(&self) -> AgentId {
        self.holder
    }

    fn not_after(&self) -> WallTime {
        self.not_after
    }
}

/// Reads a ticket that the service has signed for this agent and that still holds.
///
/// # Errors
/// [`TicketError`].
pub(crate) fn verified<T: Permission>(
    signed: &SignedTicket,
    authority: &CertificateDer<'_>,
    holder: AgentId,
    now: WallTime,
) -> Result<T, TicketError> {
    webpki::EndEntityCert::try_from(authority)
        .and_then(|authority| {
            let algorithm = webpki::ring::ECDSA_P256_SHA256;
            authority.verify_signature(algorithm, &signed.ticket, &signed.signature)
        })
        .map_err(|_| TicketError::Signature)?;
    let ticket: T = decode(&signed.ticket)?;
    if ticket.holder() != holder {
        return Err(TicketError::OtherAgent);
    }
    if now >= ticket.not_after() {
        return Err(TicketError::Expired);
    }
    Ok(ticket)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use itinera_model::codec::encode;
    use itinera_model::id::PairId;
    use itinera_model::two_way::{PORT, Role};
    use rcgen::{CertificateParams, KeyPair, SigningKey};
    use uuid::Uuid;

    /// An authority that signs tickets.
    pub(crate) struct Signer {
        key: KeyPair,
        pub(crate) certificate: CertificateDer<'static>,
    }

    impl Signer {
        pub(crate) fn new() -> Self {
            let key = KeyPair::generate().unwrap();
            let params = CertificateParams::new(vec!["authority.example".into()]).unwrap();
            let certificate = params.self_signed(&key).unwrap().der().clone();
            Self { key, certificate }
        }

        pub(crate) fn sign(&self, ticket: &Ticket) -> SignedTicket {
            let ticket = encode(ticket);
            let signature = self.key.sign(&ticket).unwrap();
            SignedTicket { ticket, signature }
        }
    }

    pub(crate) fn agent(number: u128) -> AgentId {
        AgentId::from_uuid(Uuid::from_u128(number))
    }

    pub(crate) fn ticket() -> Ticket {
        Ticket {
            pair: PairId::from_uuid(Uuid::from_u128(1)),
            holder: agent(1),
            role: Role::Sender,
            peer: agent(2),
            peer_address: [198, 18, 203, 2].into(),
            peer_port: PORT,
            is_hidden: false,
            session: 5,
            key: [9; 32],
            dscp: 0,
            size_bytes: 300,
            interval_ms: 20,
            packets: 20,
            not_after: WallTime::from_unix_seconds(4_000_000_000),
            voice: None,
        }
    }

    #[test]
    fn only_what_the_service_has_signed_for_us_is_followed_and_not_for_ever() {
        let (service, other) = (Signer::new(), Signer::new());
        let signed = service.sign(&ticket());
        let now = WallTime::from_unix_seconds(1_700_000_000);
        let read = |signed: &SignedTicket, holder, now| {
            verified::<Ticket>(signed, &service.certificate, holder, now).map_err(|e| e.to_string())
        };
        assert_eq!(read(&signed, agent(1), now).unwrap(), ticket());
        assert!(read(&signed, agent(2), now).unwrap_err().contains("another agent's"));
        assert!(read(&signed, agent(1), ticket().not_after).unwrap_err().contains("over"));
        assert!(read(&other.sign(&ticket()), agent(1), now).unwrap_err().contains("signature"));
        let mut changed = signed;
        changed.ticket[40] ^= 1;
        assert!(read(&changed, agent(1), now).unwrap_err().contains("signature"));
    }
}
