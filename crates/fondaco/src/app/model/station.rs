//! The stops on the route of the work.

/// A stop on the route of the work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)] // each is its own word
pub enum Station {
    Volumes,
    Directories,
    Ages,
    Breakdown,
    Duplicates,
    Leftovers,
    Rules,
    Plan,
    Journal,
    History,
}

impl Station {
    /// In the order of the route.
    pub const ALL: [Self; 10] = [
        Self::Volumes,
        Self::Directories,
        Self::Ages,
        Self::Breakdown,
        Self::Duplicates,
        Self::Leftovers,
        Self::Rules,
        Self::Plan,
        Self::Journal,
        Self::History,
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Volumes => "Volumes",
            Self::Directories => "Directories",
            Self::Ages => "Ages",
            Self::Breakdown => "Breakdown",
            Self::Duplicates => "Duplicates",
            Self::Leftovers => "Leftovers",
            Self::Rules => "Rules",
            Self::Plan => "Plan",
            Self::Journal => "Journal",
            Self::History => "History",
        }
    }

    /// The digit that goes there.
    pub fn digit(self) -> char {
        match self {
            Self::History => '0',
            other => {
                let place = Self::ALL.iter().position(|s| *s == other).unwrap_or(0);
                char::from_digit(place as u32 + 1, 10).unwrap_or('1')
            }
        }
    }

    /// Of a station that this version does not have yet: what it will be.
    pub fn will_be(self) -> Option<&'static str> {
        match self {
            Self::Duplicates => Some("same contents, and which tree is contained in which"),
            Self::Rules => Some(
                "rules edited and tried on screen; today: fondaco plan --rules FILE PATH -o plan.json",
            ),
            Self::History => Some("how levels moved, and when the volume will be full"),
            _ => None,
        }
    }
}
