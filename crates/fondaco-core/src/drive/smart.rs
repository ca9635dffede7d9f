//! What a disk says of its own health, as `smartctl --json` tells it.
//!
//! Source: `smartctl(8)`, whose answers have the version `json_format_version`; the attributes of ATA disks by their usual
//! numbers, those of NVMe by the health log of the NVM Express base specification.

use serde::Deserialize;

/// The part of an answer that is read.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct SmartAnswer {
    smart_status: Option<Status>,
    temperature: Option<Temperature>,
    power_on_time: Option<PowerOn>,
    model_name: Option<String>,
    nvme_smart_health_information_log: Option<NvmeLog>,
    ata_smart_attributes: Option<Attributes>,
    scsi_grown_defect_list: Option<u64>,
}

#[derive(Debug, Deserialize)]
struct Status {
    passed: bool,
}

#[derive(Debug, Deserialize)]
struct Temperature {
    current: i64,
}

#[derive(Debug, Deserialize)]
struct PowerOn {
    hours: u64,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct NvmeLog {
    critical_warning: Option<u64>,
    available_spare: Option<u64>,
    available_spare_threshold: Option<u64>,
    percentage_used: Option<u64>,
    media_errors: Option<u64>,
    power_on_hours: Option<u64>,
}

#[derive(Debug, Deserialize)]
struct Attributes {
    table: Vec<Attribute>,
}

#[derive(Debug, Deserialize)]
struct Attribute {
    id: u16,
    #[serde(default)]
    value: Option<u64>,
    raw: Raw,
}

#[derive(Debug, Deserialize)]
struct Raw {
    value: u64,
}

/// What a disk says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SmartFacts {
    /// Maker and model.
    pub model: Option<String>,
    /// Its own verdict.
    pub passed: Option<bool>,
    /// How warm it is, in degrees Celsius.
    pub temperature: Option<i64>,
    /// How much of its life it has used, in percent; may be above 100.
    pub wear: Option<u64>,
    /// How much of its spare room is left, in percent.
    pub spare: Option<u64>,
    /// Below this spare room its maker calls it worn out.
    pub spare_least: Option<u64>,
    /// Sectors that were replaced by others.
    pub reallocated: Option<u64>,
    /// Sectors that could not be read and wait to be replaced.
    pub pending: Option<u64>,
    /// Errors that it could not correct.
    pub media_errors: Option<u64>,
    /// Hours that it has been on.
    pub hours: Option<u64>,
    /// The controller warns: a number of bits.
    pub critical_warning: u64,
}

/// Reads an answer; nothing if it is none.
pub(super) fn read(answer: &[u8]) -> Option<SmartFacts> {
    let answer: SmartAnswer = serde_json::from_slice(answer).ok()?;
    let attribute = |id: u16| {
        let table = &answer.ata_smart_attributes.as_ref()?.table;
        table.iter().find(|attribute| attribute.id == id)
    };
    let raw = |id: u16| attribute(id).map(|attribute| attribute.raw.value);
    // of those that tell what is left of a life, by the number of the maker
    let left = [231, 233, 177, 202, 173].into_iter().find_map(|id| attribute(id)?.value);
    let log = answer.nvme_smart_health_information_log.unwrap_or_default();
    let facts = SmartFacts {
        model: answer.model_name.map(crate::shown::shown),
        passed: answer.smart_status.map(|status| status.passed),
        temperature: answer.temperature.map(|temperature| temperature.current),
        wear: log.percentage_used.or_else(|| left.map(|left| 100u64.saturating_sub(left))),
        spare: log.available_spare,
        spare_least: log.available_spare_threshold,
        reallocated: raw(5).or(answer.scsi_grown_defect_list),
        pending: raw(197),
        media_errors: log.media_errors.or_else(|| raw(198)),
        hours: answer.power_on_time.map(|time| time.hours).or(log.power_on_hours),
        critical_warning: log.critical_warning.unwrap_or(0),
    };
    (facts != SmartFacts::default()).then_some(facts)
}
