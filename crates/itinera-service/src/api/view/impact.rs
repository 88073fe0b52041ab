//! What an alarm means for its users, as the API shows it.

use itinera_store::{Contract, Earlier, EarlierAlarm};
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A provider that sites pay. They can call it whichever network is at fault.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub(crate) struct ContractHolder {
    pub(crate) name: String,
    pub(crate) contact: String,
    /// The sites that pay it.
    pub(crate) sites: Vec<String>,
}

impl ContractHolder {
    /// In one line: name, contact, sites.
    pub(crate) fn words(&self) -> String {
        format!("{}, {}, for {}", self.name, self.contact, self.sites.join(", "))
    }
}

/// The contract holders of some sites.
pub(crate) fn holders_of(contracts: &[Contract], sites: &[String]) -> Vec<ContractHolder> {
    let mut holders: Vec<ContractHolder> = Vec::new();
    for contract in contracts.iter().filter(|it| sites.contains(&it.site)) {
        let Contract { site, holder, contact } = contract.clone();
        match holders.last_mut() {
            Some(last) if last.name == holder && last.contact == contact => last.sites.push(site),
            _ => holders.push(ContractHolder { name: holder, contact, sites: vec![site] }),
        }
    }
    holders
}

/// An earlier alarm of the same cause at the same place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub(crate) struct EarlierAlarmView {
    /// Its short number.
    no: i64,
    #[serde(with = "time::serde::rfc3339")]
    raised_at: OffsetDateTime,
    /// Absent while it is open.
    #[serde(with = "time::serde::rfc3339::option")]
    cleared_at: Option<OffsetDateTime>,
    /// What a user wrote when it was closed, or its incident.
    closing: Option<String>,
}

impl From<EarlierAlarm> for EarlierAlarmView {
    fn from(alarm: EarlierAlarm) -> Self {
        let EarlierAlarm { no, raised_at, cleared_at, closing } = alarm;
        Self { no, raised_at, cleared_at, closing }
    }
}

/// Earlier alarms of the same cause at the same place.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, ToSchema)]
pub(crate) struct EarlierView {
    pub(crate) count: i64,
    /// The newest of them, newest first.
    pub(crate) last: Vec<EarlierAlarmView>,
}

impl From<Earlier> for EarlierView {
    fn from(Earlier { count, last }: Earlier) -> Self {
        Self { count, last: last.into_iter().map(EarlierAlarmView::from).collect() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_provider_is_named_once_with_the_sites_that_pay_it() {
        let contract = |site: &str, holder: &str, contact: &str| Contract {
            site: site.to_owned(),
            holder: holder.to_owned(),
            contact: contact.to_owned(),
        };
        let contracts = [
            contract("Dunverra", "Fennel Fibre", "desk 1"),
            contract("Eskerry", "Fennel Fibre", "desk 1"),
            contract("Brannock Quay", "Fennel Fibre", "desk 2"),
            contract("Carrock Pier", "Skerry Cable", "desk 3"),
        ];
        let sites = ["Brannock Quay", "Dunverra", "Eskerry"].map(str::to_owned);
        let holders = holders_of(&contracts, &sites);
        let named: Vec<_> =
            holders.iter().map(|it| (it.contact.as_str(), it.sites.join(", "))).collect();
        let expected = [("desk 1", "Dunverra, Eskerry"), ("desk 2", "Brannock Quay")];
        assert_eq!(named, expected.map(|(contact, sites)| (contact, sites.to_owned())));
        assert_eq!(holders_of(&contracts, &[]), []);
    }
}
