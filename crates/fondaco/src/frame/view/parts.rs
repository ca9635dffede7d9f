//! What several stations draw: shares and small histograms of age.

use fondaco_core::catalog::AgeProfile;
use fondaco_core::units::Bytes;

use crate::frame::model::Model;
use crate::words::{days, signed_bytes};

/// A share in percent.
pub fn share(part: Bytes, whole: Bytes) -> String {
    let percent = part.share_of(whole) * 100.0;
    if percent > 0.0 && percent < 0.5 { "< 1 %".to_owned() } else { format!("{percent:.0} %") }
}

/// A small histogram of allocated bytes over age, newest left; the tallest column is full.
pub fn age_profile(profile: &AgeProfile) -> String {
    const STEPS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let most = profile.iter().copied().fold(0f32, f32::max);
    let sign = |bytes: &f32| {
        if most <= 0.0 || *bytes <= 0.0 {
            return ' ';
        }
        STEPS[((bytes / most * 7.0).round() as usize).min(7)]
    };
    profile.iter().map(sign).collect()
}

/// The heading of a column of growth: over which time.
pub fn growth_title(model: &Model) -> String {
    match &model.growth.compared {
        Some(compared) if !model.growth.waiting => match compared.days() {
            Some(between) => format!("in {}", days(between)),
            None => "differs".to_owned(),
        },
        _ if model.growth.waiting => "comparing".to_owned(),
        _ => "no scan".to_owned(),
    }
}

/// Bytes that something has more or less than at an earlier scan.
pub fn growth_words(model: &Model, grown: Option<i64>) -> String {
    match grown {
        None => "-".to_owned(),
        Some(0) => "=".to_owned(),
        Some(bytes) => signed_bytes(bytes, model.units),
    }
}
