//! Messages, places and owners as the API shows them.

use itinera_analysis::catalogue::{self, Context};
use itinera_analysis::responsible::Responsible;
use itinera_model::alarm::AlarmState;
use itinera_model::finding::Place;
use itinera_model::message::Message;
use itinera_model::note::Note;
use itinera_model::owner::{Owner, OwnerMap};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A message: its code and parameters, and the words of the catalogue.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MessageView {
    #[serde(flatten)]
    message: Message,
    /// Effect, then place, in at most 70 characters.
    headline: String,
    /// The owner to call, or what to check first; absent where there is nothing to do.
    contact: Option<String>,
    /// Numbers, reasons, and what to do next.
    detail: Vec<String>,
}

impl MessageView {
    /// A message with its words.
    pub fn new(message: Message, context: &Context<'_>) -> Self {
        let words = catalogue::render(&message, context);
        let catalogue::Words { headline, contact, detail } = words;
        Self { message, headline, contact, detail }
    }

    /// A message of one path or agent.
    pub fn of_one(message: Message, map: &OwnerMap) -> Self {
        Self::new(message, &Context { map, state: AlarmState::Open, sites: &[] })
    }

    /// Code and parameters.
    pub(crate) const fn message(&self) -> &Message {
        &self.message
    }

    /// The detail, then the contact line.
    pub fn rest(&self) -> impl Iterator<Item = &String> {
        self.detail.iter().chain(&self.contact)
    }

    /// The owner to call, or what to check first; absent where there is nothing to do.
    pub fn contact(&self) -> Option<&str> {
        self.contact.as_deref()
    }

    /// Numbers, reasons, and what to do next.
    pub fn detail(&self) -> &[String] {
        &self.detail
    }

    /// Effect, then place.
    pub fn headline(&self) -> &str {
        &self.headline
    }
}

/// A note: its code and parameters, and the words of the catalogue.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct NoteView {
    #[serde(flatten)]
    note: Note,
    /// The note in one or a few sentences.
    pub text: String,
}

impl NoteView {
    /// A note with its words.
    pub fn new(note: Note, map: &OwnerMap) -> Self {
        let text = catalogue::note(&note, &Context { map, state: AlarmState::Open, sites: &[] });
        Self { note, text }
    }

    /// Several notes with their words.
    pub fn all(notes: impl IntoIterator<Item = Note>, map: &OwnerMap) -> Vec<Self> {
        notes.into_iter().map(|note| Self::new(note, map)).collect()
    }
}

/// A network responsible for addresses.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct OwnerView {
    /// Autonomous system number.
    as_number: u32,
    name: String,
    /// Contact.
    contact: String,
}

impl OwnerView {
    /// Autonomous system number.
    pub(crate) const fn as_number(&self) -> u32 {
        self.as_number
    }

    /// True when this shows the same network.
    pub(crate) const fn is(&self, owner: &Owner) -> bool {
        self.as_number == owner.as_number
    }
}

impl From<&Owner> for OwnerView {
    fn from(owner: &Owner) -> Self {
        Self {
            as_number: owner.as_number,
            name: owner.name.clone(),
            contact: owner.contact.clone(),
        }
    }
}

/// A place at fault with the networks responsible for it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct PlaceView {
    #[serde(flatten)]
    place: Place,
    /// Its addresses in words.
    text: String,
    /// One owner, two at a boundary, none where no owner map names one.
    owners: Vec<OwnerView>,
}

impl PlaceView {
    /// One owner, two at a boundary, none where no owner map names one.
    pub(crate) fn owners(&self) -> &[OwnerView] {
        &self.owners
    }

    pub(crate) fn new(place: &Place, map: &OwnerMap) -> Self {
        let responsible = Responsible::of(place, map);
        Self {
            place: *place,
            text: catalogue::place(place),
            owners: responsible.owners().into_iter().map(OwnerView::from).collect(),
        }
    }
}
