//! Room for the database, and what waits while there is little: first what can be
//! made up for later, then everything that is measured.

use itinera_model::note::Note;
use itinera_model::self_alarm::DiskSpace;

/// Free space below which something waits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Watermarks {
    /// Rollups and opening states wait, in megabytes.
    pub low_mb: u32,
    /// Measurements are refused, in megabytes.
    pub full_mb: u32,
}

impl Default for Watermarks {
    fn default() -> Self {
        Self { low_mb: 2_048, full_mb: 512 }
    }
}

/// How much room there is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub(crate) enum Room {
    /// Everything is written. Also where the room is not known.
    #[default]
    Enough,
    /// What can be made up for later waits.
    Low,
    /// Agents keep their measurements.
    Full,
}

/// The room, and the free space in megabytes that it was told from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Disk {
    pub(crate) room: Room,
    free_mb: u32,
}

impl Watermarks {
    /// What ends a state: a quarter more than what begins it, so that it does not alternate.
    const fn end_of(mark_mb: u32) -> u32 {
        mark_mb.saturating_add(mark_mb / 4)
    }

    /// The room with so much free space, after another.
    fn room(self, before: Room, free_mb: u32) -> Room {
        let is_below = |mark_mb: u32, state: Room| {
            free_mb < if before >= state { Self::end_of(mark_mb) } else { mark_mb }
        };
        if is_below(self.full_mb, Room::Full) {
            Room::Full
        } else if is_below(self.low_mb, Room::Low) {
            Room::Low
        } else {
            Room::Enough
        }
    }

    /// A disk with so many bytes free, after what it was before.
    pub(crate) fn look(self, before: Room, free_bytes: u64) -> Disk {
        let free_mb = u32::try_from(free_bytes >> 20).unwrap_or(u32::MAX);
        let room = self.room(before, free_mb);
        if room != before {
            match room {
                Room::Enough => tracing::info!(free_mb, "the disk has room again"),
                Room::Low => tracing::warn!(free_mb, "little room on the disk: rollups wait"),
                Room::Full => tracing::error!(free_mb, "disk full: measurements are refused"),
            }
        }
        Disk { room, free_mb }
    }

    /// What is to be said of a disk; absent where there is room enough.
    pub(crate) fn note(self, disk: Disk) -> Option<Note> {
        let space = |mark_mb: u32| {
            let needed_mb = Self::end_of(mark_mb);
            DiskSpace { free_mb: disk.free_mb, needed_mb }
        };
        match disk.room {
            Room::Enough => None,
            Room::Low => Some(Note::DiskLow(space(self.low_mb))),
            Room::Full => Some(Note::DiskFull(space(self.full_mb))),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_state_ends_with_a_quarter_more_room_than_it_began_with() {
        let marks = Watermarks { low_mb: 400, full_mb: 100 };
        let mut room = Room::Enough;
        for (free_mb, expected) in [
            (401, Room::Enough),
            (399, Room::Low),
            (499, Room::Low),
            (99, Room::Full),
            (124, Room::Full),
            (126, Room::Low),
            (101, Room::Low),
            (500, Room::Enough),
            (50, Room::Full),
            (600, Room::Enough),
        ] {
            room = marks.room(room, free_mb);
            assert_eq!(room, expected, "{free_mb} MB");
        }
        let note = |room| marks.note(Disk { room, free_mb: 90 });
        assert_eq!(note(Room::Enough), None);
        let space = |needed_mb| DiskSpace { free_mb: 90, needed_mb };
        assert_eq!(note(Room::Low), Some(Note::DiskLow(space(500))));
        assert_eq!(note(Room::Full), Some(Note::DiskFull(space(125))));
    }
}
