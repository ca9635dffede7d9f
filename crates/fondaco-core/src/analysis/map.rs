//! The map: what a directory holds as areas within areas, each as large as its bytes on disk.
//!
//! Entries lie in strips from left to right and from top to bottom, largest first, so that the map reads in the
//! order of the cascade (Bederson, Shneiderman, Wattenberg: Ordered and quantum treemaps, 2002). What would be
//! smaller than can be seen is one area for all of it.

use crate::catalog::{AGE_CLASSES, AgeProfile, EntryId, Order, Seen};
use crate::units::Bytes;

/// A place in a drawing, in its units.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
#[allow(missing_docs)] // as in any drawing
pub struct Place {
    pub x: f64,
    pub y: f64,
    pub width: f64,
    pub height: f64,
}

impl Place {
    fn is_worth(self, shape: &MapShape) -> bool {
        self.width >= shape.least.0 && self.height >= shape.least.1
    }

    fn area(self) -> f64 {
        self.width * self.height
    }
}

/// How a map is to be drawn.
#[derive(Clone, Copy, Debug)]
pub struct MapShape {
    /// All of it.
    pub whole: Place,
    /// How much taller than wide a unit is: about 2 for the cells of a terminal.
    pub tallness: f64,
    /// Room that a directory keeps for itself: left, above, right, below.
    pub margin: (f64, f64, f64, f64),
    /// Nothing is drawn that is less wide or high than this.
    pub least: (f64, f64),
    /// A directory less wide or high than this is not opened.
    pub least_open: (f64, f64),
}

/// What an area stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AreaOf {
    /// One entry, and if it is a directory whether what it holds lies in the area.
    Entry {
        /// The entry that has the area.
        id: EntryId,
        /// Areas within follow.
        opened: bool,
    },
    /// The entries of a directory that are too small to be drawn one by one.
    Rest {
        /// Of which directory.
        of: EntryId,
        /// How many entries it stands for.
        count: u64,
    },
}

/// A part of the map.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Area {
    /// What it stands for.
    pub of: AreaOf,
    /// Where it lies on the map.
    pub place: Place,
    /// How deep in the directory that is mapped, from 0.
    pub level: u32,
    /// Bytes on disk.
    pub bytes: Bytes,
    /// The class of age in which half of the bytes are newer.
    pub age: usize,
    /// The entry of the mapped directory that it belongs to; nothing for the small ones.
    pub child: Option<EntryId>,
}

/// The areas of what is shown of a directory, each after the one it lies in. The directory's own blocks and
/// what other areas hold already (inodes with names in several) are not drawn.
pub fn map(seen: Seen<'_>, at: EntryId, shape: &MapShape) -> Vec<Area> {
    let mut areas = Vec::new();
    let mut open = vec![(at, shape.whole, 0, None)];
    while let Some((directory, place, level, child)) = open.pop() {
        let from = areas.len();
        lay_out(seen, directory, place, level, child, shape, &mut areas);
        for area in &mut areas[from..] {
            let AreaOf::Entry { id, opened } = &mut area.of else { continue };
            let inside = inside(area.place, shape);
            let large = area.place.width >= shape.least_open.0
                && area.place.height >= shape.least_open.1
                && inside.is_worth(shape);
            *opened =
                large && seen.catalog().is_directory(*id) && seen.children(*id).next().is_some();
            if *opened {
                open.push((*id, inside, level + 1, area.child));
            }
        }
    }
    areas
}

/// Where the entries of an opened directory lie.
fn inside(place: Place, shape: &MapShape) -> Place {
    let (left, above, right, below) = shape.margin;
    Place {
        x: place.x + left,
        y: place.y + above,
        width: place.width - left - right,
        height: place.height - above - below,
    }
}

fn lay_out(
    seen: Seen<'_>,
    directory: EntryId,
    place: Place,
    level: u32,
    child: Option<EntryId>,
    shape: &MapShape,
    areas: &mut Vec<Area>,
) {
    let all: Bytes = seen.children(directory).map(|id| seen.allocated(id)).sum();
    if all == Bytes::ZERO {
        return;
    }
    // more cannot be drawn, however small they are
    let most = (place.area() / (shape.least.0 * shape.least.1)).ceil() as usize;
    let ranking = seen.ranking(directory, Order::Allocated, most.clamp(1, 900));
    let worth = |id: &EntryId| {
        let area = seen.allocated(*id).share_of(all) * place.area();
        area >= shape.least.0 * shape.least.1
    };
    let shown: Vec<EntryId> = ranking.rows.iter().copied().take_while(worth).collect();
    let rest: Bytes =
        ranking.rows[shown.len()..].iter().map(|id| seen.allocated(*id)).sum::<Bytes>()
            + ranking.tail.allocated;
    let count = (ranking.rows.len() - shown.len()) as u64 + ranking.tail.children;
    let mut parts: Vec<(AreaOf, Bytes, AgeProfile)> = shown
        .iter()
        .map(|id| {
            let of = AreaOf::Entry { id: *id, opened: false };
            (of, seen.allocated(*id), seen.age_profile(*id))
        })
        .collect();
    if count > 0 && rest > Bytes::ZERO {
        let mut profile = seen.age_profile(directory);
        for (_, _, shown) in &parts {
            profile.iter_mut().zip(shown).for_each(|(left, part)| *left = (*left - part).max(0.0));
        }
        parts.push((AreaOf::Rest { of: directory, count }, rest, profile));
    }
    let weights: Vec<f64> = parts.iter().map(|(_, bytes, _)| bytes.get() as f64).collect();
    for ((of, bytes, profile), place) in
        parts.into_iter().zip(strips(&weights, place, shape.tallness))
    {
        let child = match of {
            AreaOf::Entry { id, .. } if level == 0 => Some(id),
            _ => child,
        };
        areas.push(Area { of, place, level, bytes, age: median(&profile), child });
    }
}

/// The class in which half of the bytes are newer.
fn median(profile: &AgeProfile) -> usize {
    let half = profile.iter().sum::<f32>() / 2.0;
    let mut sum = 0.0;
    let class = profile.iter().position(|bytes| {
        sum += bytes;
        sum >= half
    });
    class.unwrap_or(AGE_CLASSES - 1)
}

/// Places for weights in their order: strips from top to bottom, in each from left to right. An entry is taken
/// into a strip as long as that makes its places squarer on average.
fn strips(weights: &[f64], place: Place, tallness: f64) -> Vec<Place> {
    let whole: f64 = weights.iter().sum();
    let mut places = Vec::with_capacity(weights.len());
    let (mut first, mut y) = (0, place.y);
    while first < weights.len() {
        let mut last = first + 1;
        let mut sum = weights[first];
        let mut shape = slimness(&weights[first..last], sum, whole, place, tallness);
        while last < weights.len() {
            let more = sum + weights[last];
            let next = slimness(&weights[first..=last], more, whole, place, tallness);
            if next > shape {
                break;
            }
            (sum, shape, last) = (more, next, last + 1);
        }
        let height = place.height * sum / whole;
        let mut x = place.x;
        for weight in &weights[first..last] {
            let width = place.width * weight / sum;
            places.push(Place { x, y, width, height });
            x += width;
        }
        y += height;
        first = last;
    }
    places
}

/// How far from square the places of a strip are on average; 1 is square.
fn slimness(weights: &[f64], sum: f64, whole: f64, place: Place, tallness: f64) -> f64 {
    let height = place.height * sum / whole * tallness;
    let slim = |weight: &f64| {
        let width = place.width * weight / sum;
        (width / height).max(height / width)
    };
    weights.iter().map(slim).sum::<f64>() / weights.len() as f64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::{Options, Scan};
    use crate::units::Time;

    #[test]
    fn areas_are_as_large_as_their_bytes_lie_within_and_never_overlap() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        for (number, size) in [70, 50, 30, 20, 20, 8, 4, 1, 1, 1, 1].into_iter().enumerate() {
            let at =
                root.join(["north", "south", "logs"][number % 3]).join(format!("d{}", number % 2));
            std::fs::create_dir_all(&at).unwrap();
            std::fs::write(at.join(number.to_string()), vec![1; size * 10_000]).unwrap();
        }
        let mut scan = Scan::start(&[root], &Options::new(Time::now())).unwrap();
        scan.wait();
        let catalog = scan.catalog();
        let top = catalog.top().unwrap();
        let whole = Place { x: 3.0, y: 2.0, width: 100.0, height: 40.0 };
        let shape = MapShape {
            whole,
            tallness: 2.0,
            margin: (1.0, 1.0, 0.0, 0.0),
            least: (2.0, 1.0),
            least_open: (6.0, 3.0),
        };
        let areas = map(catalog.whole(), top, &shape);
        let (files, mut deepest) = (areas.iter().filter(|area| area.level == 2).count(), 0);
        assert!(files >= 5, "{areas:?}");
        for (place, area) in areas.iter().enumerate() {
            deepest = deepest.max(area.level);
            let p = area.place;
            assert!(p.x >= whole.x - 1e-6 && p.x + p.width <= whole.x + whole.width + 1e-6);
            assert!(p.y >= whole.y - 1e-6 && p.y + p.height <= whole.y + whole.height + 1e-6);
            for other in areas[place + 1..].iter().filter(|other| other.level == area.level) {
                let o = other.place;
                let apart = p.x + p.width <= o.x + 1e-6
                    || o.x + o.width <= p.x + 1e-6
                    || p.y + p.height <= o.y + 1e-6
                    || o.y + o.height <= p.y + 1e-6;
                assert!(apart, "{area:?} and {other:?}");
            }
        }
        assert_eq!(deepest, 2, "the whole depth is drawn");
        let at_top: Vec<&Area> = areas.iter().filter(|area| area.level == 0).collect();
        let bytes: Bytes = at_top.iter().map(|area| area.bytes).sum();
        let covered: f64 = at_top.iter().map(|area| area.place.area()).sum();
        assert!((covered - whole.area()).abs() < 1e-6);
        for area in at_top {
            let share = area.bytes.share_of(bytes);
            assert!((area.place.area() / whole.area() - share).abs() < 1e-9);
        }
    }
}
