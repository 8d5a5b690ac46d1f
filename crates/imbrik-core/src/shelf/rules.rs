//! Rules for keeping images of a card, as text: `3 newest, 1 a week for 2 months, 1 a month`.

use imbrik_store::error::{Error, Result};
use jiff::{Timestamp, ToSpan as _, Zoned, tz::TimeZone};
use std::{collections::BTreeMap, fmt, str::FromStr};

/// Rules by which images stay: one that no rule keeps may go.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rules(Vec<Rule>);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Rule {
    /// So many, the newest.
    Newest(u32),
    /// All from the last days, weeks, months or years.
    All(u32, Period),
    /// A number of images per period, the newest in each; for some time, or forever.
    Each(u32, Period, Option<(u32, Period)>),
}

/// A piece of the calendar.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Period {
    Day,
    Week,
    Month,
    Year,
}

impl Period {
    const ALL: [Self; 4] = [Self::Day, Self::Week, Self::Month, Self::Year];

    fn word(self) -> &'static str {
        match self {
            Self::Day => "day",
            Self::Week => "week",
            Self::Month => "month",
            Self::Year => "year",
        }
    }

    fn of_word(word: &str) -> Option<Self> {
        let one = word.strip_suffix('s').unwrap_or(word);
        Self::ALL.into_iter().find(|period| period.word() == one)
    }

    /// The period of a time.
    fn of(self, at: &Zoned) -> (i16, i16) {
        let week = at.date().iso_week_date();
        match self {
            Self::Day => (at.year(), at.day_of_year()),
            Self::Week => (week.year(), week.week().into()),
            Self::Month => (at.year(), at.month().into()),
            Self::Year => (at.year(), 0),
        }
    }

    /// The time `count` periods before `now`.
    fn before(self, count: u32, now: &Zoned) -> Zoned {
        let count = i64::from(count.min(Rules::MOST));
        let span = match self {
            Self::Day => count.days(),
            Self::Week => count.weeks(),
            Self::Month => count.months(),
            Self::Year => count.years(),
        };
        now.checked_sub(span).unwrap_or_else(|_| now.clone())
    }
}

/// The properties of an image that rules use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Kept {
    /// When it was made.
    pub made_at: Timestamp,
    /// True if its owner said that it stays.
    pub is_pinned: bool,
    /// True if nothing is known to be wrong with it.
    pub is_sound: bool,
    /// When it was last found to be whole.
    pub checked_at: Option<Timestamp>,
}

/// Why an image stays, or that it may go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It is the newest intact one.
    Newest,
    /// The user pinned it.
    Pinned,
    /// It is the one that was checked last.
    LastChecked,
    /// A rule keeps it.
    Rule,
    /// It is dated in the future, so that no rule can be applied to it.
    Ahead,
    /// It is known to be damaged: no rule counts it, and the user decides when to remove it.
    Damaged,
    /// No rule keeps it.
    Goes,
}

/// How far in the future an image may be dated, in seconds: clocks and time zones differ.
const AHEAD: i64 = 24 * 60 * 60;

/// Returns whether an image made at `made_at` is dated so far after `now` that one of the clocks is wrong.
#[must_use]
pub fn is_ahead(made_at: Timestamp, now: Timestamp) -> bool {
    made_at.as_second().saturating_sub(now.as_second()) > AHEAD
}

impl Rules {
    /// The largest number in a rule.
    const MOST: u32 = 1000;

    /// The fate of each of `images`, which are of one card, when they are thinned `now`, with days in `zone`.
    #[must_use]
    pub fn fates(&self, images: &[Kept], now: Timestamp, zone: &TimeZone) -> Vec<Fate> {
        let mut order: Vec<usize> = (0..images.len()).collect();
        let at = |index: usize| images.get(index);
        let is_dated = |image: &Kept| image.is_sound && !is_ahead(image.made_at, now);
        // If no date is plausible, the newest image is at least the last one created.
        let has_date = images.iter().any(is_dated);
        order.retain(|index| {
            at(*index).is_some_and(|image| if has_date { is_dated(image) } else { image.is_sound })
        });
        order.sort_by_key(|index| std::cmp::Reverse(at(*index).map(|image| image.made_at)));
        let newest = order.first().copied();
        let checked =
            order.iter().copied().filter_map(|index| Some((at(index)?.checked_at?, index)));
        let last_checked = checked.max().map(|(_, index)| index);
        let kept: std::collections::BTreeSet<usize> =
            self.0.iter().flat_map(|rule| rule.keeps(&order, images, now, zone)).collect();
        let fate = |(index, image): (usize, &Kept)| match image {
            _ if newest == Some(index) => Fate::Newest,
            image if image.is_pinned => Fate::Pinned,
            image if !image.is_sound => Fate::Damaged,
            image if is_ahead(image.made_at, now) => Fate::Ahead,
            _ if last_checked == Some(index) => Fate::LastChecked,
            _ if kept.contains(&index) => Fate::Rule,
            _ => Fate::Goes,
        };
        images.iter().enumerate().map(fate).collect()
    }
}

impl Rule {
    /// Which of `order`, the numbers of images from the newest on, it keeps.
    fn keeps(
        self,
        order: &[usize],
        images: &[Kept],
        now: Timestamp,
        zone: &TimeZone,
    ) -> Vec<usize> {
        let now = now.to_zoned(zone.clone());
        let made =
            |index: usize| images.get(index).map(|image| image.made_at.to_zoned(zone.clone()));
        match self {
            Self::Newest(count) => {
                let count = usize::try_from(count).unwrap_or(usize::MAX);
                order.iter().copied().take(count).collect()
            }
            Self::All(count, period) => {
                let first = period.before(count, &now);
                let is_in = |index: &usize| made(*index).is_some_and(|made| made >= first);
                order.iter().copied().filter(is_in).collect()
            }
            Self::Each(count, period, span) => {
                let first = span.map(|(count, period)| period.before(count, &now));
                let mut seen: BTreeMap<(i16, i16), u32> = BTreeMap::new();
                let mut kept = Vec::new();
                for index in order {
                    let Some(made) = made(*index) else { continue };
                    if first.as_ref().is_some_and(|first| made < *first) {
                        continue;
                    }
                    let seen = seen.entry(period.of(&made)).or_default();
                    if *seen < count {
                        kept.push(*index);
                    }
                    *seen = seen.saturating_add(1);
                }
                kept
            }
        }
    }
}

impl Default for Rules {
    /// Daily for a week, weekly for two months, and monthly forever.
    fn default() -> Self {
        Self(vec![
            Rule::Newest(3),
            Rule::Each(1, Period::Day, Some((1, Period::Week))),
            Rule::Each(1, Period::Week, Some((2, Period::Month))),
            Rule::Each(1, Period::Month, None),
        ])
    }
}

impl FromStr for Rules {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let rules: Result<Vec<_>> = text.split(',').map(|rule| rule.trim().parse()).collect();
        Ok(Self(rules?))
    }
}

impl FromStr for Rule {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self> {
        let words: Vec<_> = text.split_whitespace().map(str::to_lowercase).collect();
        let words: Vec<_> = words.iter().map(String::as_str).collect();
        let count = |word: &str| {
            let count = word.parse().ok().filter(|count| (1..=Rules::MOST).contains(count));
            count.ok_or_else(|| wrong(text))
        };
        let period = |word: &str| Period::of_word(word).ok_or_else(|| wrong(text));
        match words[..] {
            [number, "newest"] | ["newest", number] => Ok(Self::Newest(count(number)?)),
            ["all", "for", number, span] => Ok(Self::All(count(number)?, period(span)?)),
            [number, "a" | "each" | "per", every] => {
                Ok(Self::Each(count(number)?, period(every)?, None))
            }
            [number, "a" | "each" | "per", every, "for", long, span] => {
                Ok(Self::Each(count(number)?, period(every)?, Some((count(long)?, period(span)?))))
            }
            _ => Err(wrong(text)),
        }
    }
}

fn wrong(text: &str) -> Error {
    Error::usage(format!("{text:?} is not a rule for keeping images"))
}

impl fmt::Display for Rules {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, rule) in self.0.iter().enumerate() {
            let comma = if index > 0 { ", " } else { "" };
            write!(f, "{comma}{rule}")?;
        }
        Ok(())
    }
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let long = |count: u32, period: Period| {
            format!("{count} {}{}", period.word(), if count == 1 { "" } else { "s" })
        };
        match *self {
            Self::Newest(count) => write!(f, "{count} newest"),
            Self::All(count, period) => write!(f, "all for {}", long(count, period)),
            Self::Each(count, period, None) => write!(f, "{count} a {}", period.word()),
            Self::Each(count, period, Some((many, span))) => {
                write!(f, "{count} a {} for {}", period.word(), long(many, span))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn kept(days: &[i64]) -> Vec<Kept> {
        let image = |day: &i64| Kept {
            made_at: Timestamp::from_second(1_795_000_000 - day * 86_400).unwrap(),
            is_pinned: false,
            is_sound: true,
            checked_at: None,
        };
        days.iter().map(image).collect()
    }

    fn now() -> Timestamp {
        Timestamp::from_second(1_795_000_000).unwrap()
    }

    fn rules() -> impl Strategy<Value = Rules> {
        let period = || (0usize..4).prop_map(|index| Period::ALL[index]);
        let rule = prop_oneof![
            (1u32..6).prop_map(Rule::Newest),
            (1u32..40, period()).prop_map(|(count, period)| Rule::All(count, period)),
            (1u32..4, period(), proptest::option::of((1u32..20, period())))
                .prop_map(|(count, period, span)| Rule::Each(count, period, span)),
        ];
        proptest::collection::vec(rule, 1..4).prop_map(Rules)
    }

    #[test]
    fn rules_parse_everyday_wording() {
        for text in ["3 newest, 1 a week for 2 months, 1 a month", "all for 1 week, 2 a year"] {
            assert_eq!(text.parse::<Rules>().unwrap().to_string(), text);
        }
        for text in
            ["", "newest", "0 newest", "1 a fortnight", "1 a week for", "2000 newest", "3 newest 4"]
        {
            assert!(text.parse::<Rules>().is_err(), "{text:?}");
        }
    }

    #[test]
    fn a_year_of_nights_becomes_a_few_images() {
        let days: Vec<i64> = (0..365).collect();
        let rules: Rules = "3 newest, 1 a week for 2 months, 1 a month".parse().unwrap();
        let fates = rules.fates(&kept(&days), now(), &TimeZone::UTC);
        let stays = fates.iter().filter(|fate| **fate != Fate::Goes).count();
        assert!((20..=26).contains(&stays), "{stays}");
        assert_eq!(fates[0], Fate::Newest);
    }

    proptest! {
        #[test]
        fn rules_survive_a_round_trip(rules in rules()) {
            prop_assert_eq!(rules.to_string().parse::<Rules>().unwrap(), rules);
        }

        /// Fails if thinning removes the last intact image, a pinned one or the last checked one, a rule keeps fewer
        /// than it says, or a second thinning removes more.
        #[test]
        fn rules_keep_the_images_they_name(
            rules in rules(),
            images in proptest::collection::vec((0i64..900, any::<bool>(), 0u8..5, proptest::option::of(0i64..50)), 1..60),
        ) {
            let images: Vec<Kept> = images.into_iter().map(|(day, is_pinned, sound, checked)| Kept {
                is_pinned: is_pinned && day % 3 == 0,
                is_sound: sound > 0,
                checked_at: checked.map(|day| Timestamp::from_second(1_795_000_000 - day).unwrap()),
                ..kept(&[day])[0]
            }).collect();
            let fates = rules.fates(&images, now(), &TimeZone::UTC);
            let left: Vec<Kept> = images.iter().zip(&fates)
                .filter(|(_, fate)| **fate != Fate::Goes).map(|(image, _)| *image).collect();
            let sound = |all: &[Kept]| -> Vec<Timestamp> {
                let mut sound: Vec<_> = all.iter().filter(|i| i.is_sound).map(|i| i.made_at).collect();
                sound.sort_by(|a, b| b.cmp(a));
                sound
            };
            prop_assert!(sound(&left).first() == sound(&images).first());
            prop_assert!(images.iter().all(|image| left.contains(image) || !image.is_pinned && image.is_sound));
            let last = images.iter().filter(|i| i.is_sound).filter_map(|i| i.checked_at).max();
            prop_assert!(last.is_none() || left.iter().any(|i| i.checked_at == last));
            for rule in &rules.0 {
                match rule {
                    Rule::Newest(count) => {
                        let count = *count as usize;
                        let (is, was) = (sound(&left), sound(&images));
                        prop_assert_eq!(&is[..count.min(is.len())], &was[..count.min(was.len())]);
                    }
                    Rule::Each(count, period, None) => {
                        let periods = |all: &[Kept]| {
                            let mut found = BTreeMap::new();
                            for made in sound(all) {
                                *found.entry(period.of(&made.to_zoned(TimeZone::UTC))).or_insert(0u32) += 1;
                            }
                            found
                        };
                        let is = periods(&left);
                        for (which, had) in periods(&images) {
                            let has = is.get(&which).copied().unwrap_or(0);
                            prop_assert!(has >= had.min(*count), "{which:?}: {has} of {had}");
                        }
                    }
                    _ => {}
                }
            }
            let again = rules.fates(&left, now(), &TimeZone::UTC);
            prop_assert!(again.iter().all(|fate| *fate != Fate::Goes));
        }
    }
}
