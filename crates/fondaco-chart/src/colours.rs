//! Colours for paper and for screens; what differs in meaning differs in lightness too.

/// Where a chart is looked at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Look {
    /// Dark on white: for paper.
    #[default]
    Paper,
    /// Light on ink: for screens.
    Screen,
}

/// The colours of a chart.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Colours {
    pub ground: &'static str,
    pub text: &'static str,
    pub dim: &'static str,
    pub rule: &'static str,
    pub bar: &'static str,
    pub mark: &'static str,
    pub trouble: &'static str,
    /// From the newest age to the oldest: the oldest stands out most, so on white it is the darkest, on ink the
    /// brightest.
    pub ages: [&'static str; 8],
}

const PAPER: Colours = Colours {
    ground: "#ffffff",
    text: "#17212b",
    dim: "#5b6670",
    rule: "#c8cdd2",
    bar: "#2a8a83",
    mark: "#9a6a10",
    trouble: "#b4482c",
    ages: ["#cbe4dc", "#abd3cb", "#8cc1bb", "#6dadaa", "#4f9898", "#347f83", "#1e636c", "#0f444f"],
};

const SCREEN: Colours = Colours {
    ground: "#0f1720",
    text: "#e9e3d2",
    dim: "#8d98a3",
    rule: "#334250",
    bar: "#3fa79f",
    mark: "#e0b25a",
    trouble: "#d96b4e",
    ages: ["#2a4d57", "#2f626b", "#38787e", "#479092", "#62aaa8", "#88c4bf", "#b4dcd3", "#e4f1e2"],
};

impl Look {
    /// How what stands out most differs from the rest.
    pub(crate) fn strongest(self) -> &'static str {
        match self {
            Self::Paper => "dark",
            Self::Screen => "bright",
        }
    }

    pub(crate) fn colours(self) -> Colours {
        match self {
            Self::Paper => PAPER,
            Self::Screen => SCREEN,
        }
    }
}

/// Whether text on a shade of age should be light.
pub(crate) fn is_dark(colour: &str) -> bool {
    let part = |at: usize| {
        let digits = colour.get(at..at + 2).unwrap_or("00");
        u32::from_str_radix(digits, 16).unwrap_or(0)
    };
    // lightness as the eye has it, in thousandths (Rec. 709)
    213 * part(1) + 715 * part(3) + 72 * part(5) < 128 * 1000
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ages_are_told_by_lightness_alone() {
        let lightness = |colour: &str| {
            let part = |at: usize| u32::from_str_radix(&colour[at..at + 2], 16).unwrap();
            213 * part(1) + 715 * part(3) + 72 * part(5)
        };
        for look in [Look::Paper, Look::Screen] {
            let ground = lightness(look.colours().ground);
            let ages = look.colours().ages.map(|colour| lightness(colour).abs_diff(ground));
            // the newest is seen on the ground, and each is told from the one before
            assert!(ages[0] > 25_000, "{look:?} {ages:?}");
            assert!(ages.windows(2).all(|pair| pair[1] > pair[0] + 15_000), "{look:?} {ages:?}");
        }
        assert!(is_dark("#0f444f") && !is_dark("#e3efe6"));
    }
}
