//! Towns and countries, as people name where a picture was taken.

use crate::spot::Spot;

/// A town that pictures were taken near.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Town {
    /// Its number in this house.
    pub id: i32,
    /// Its name.
    pub name: String,
    /// The region that it is in; perhaps none.
    pub region: String,
    /// Its country's two letters (ISO 3166-1).
    pub country: String,
}

/// Up to here a picture was taken "near" a town; from there, so many kilometres from it.
const NEAR: f64 = 15.0;

impl Town {
    /// With its country: `Leiden, Netherlands`.
    pub fn told(&self) -> String {
        format!("{}, {}", self.name, country(&self.country))
    }

    /// Where a picture was taken, of which this is the nearest town: `near Leiden, Netherlands`. Towns are points here; how far one reaches, nobody
    /// knows, so nothing is told to be in one.
    pub fn near(&self, town: Spot, picture: Spot) -> String {
        if self.is_near(town, picture) {
            return format!("near {}", self.told());
        }
        format!("about {} km from {}", crate::words::count(town.kilometres(picture).round() as u64), self.told())
    }

    /// Whether a picture was taken as near to it as people mean by that.
    pub fn is_near(&self, town: Spot, picture: Spot) -> bool {
        town.kilometres(picture) <= NEAR
    }
}

/// Names that people use in the place of the standard's, which are for a list in order, or of its time.
const NAMES: [(&str, &str); 27] = [
    ("BO", "Bolivia"),
    ("CD", "DR Congo"),
    ("CZ", "Czechia"),
    ("FK", "Falkland Islands"),
    ("FM", "Micronesia"),
    ("GB", "United Kingdom"),
    ("IR", "Iran"),
    ("KP", "North Korea"),
    ("KR", "South Korea"),
    ("LA", "Laos"),
    ("MD", "Moldova"),
    ("MF", "Saint Martin"),
    ("MK", "North Macedonia"),
    ("PS", "Palestine"),
    ("RU", "Russia"),
    ("SH", "Saint Helena"),
    ("SX", "Sint Maarten"),
    ("SY", "Syria"),
    ("SZ", "Eswatini"),
    ("TR", "Türkiye"),
    ("TW", "Taiwan"),
    ("TZ", "Tanzania"),
    ("US", "United States"),
    ("VA", "Vatican City"),
    ("VE", "Venezuela"),
    ("VN", "Vietnam"),
    ("XK", "Kosovo"),
];

/// What people call countries as well.
const ALSO: [(&str, &str); 13] = [
    ("GB", "UK"),
    ("GB", "Great Britain"),
    ("GB", "Britain"),
    ("US", "USA"),
    ("US", "America"),
    ("US", "United States of America"),
    ("NL", "Holland"),
    ("NL", "The Netherlands"),
    ("CZ", "Czech Republic"),
    ("TR", "Turkey"),
    ("MK", "Macedonia"),
    ("VA", "Vatican"),
    ("AE", "Emirates"),
];

/// A country's name; its letters, if it has none here.
///
/// ```
/// use ypogeion_core::town::country;
/// assert_eq!(country("NO"), "Norway");
/// assert_eq!(country("GB"), "United Kingdom");
/// assert_eq!(country("??"), "??");
/// ```
pub fn country(letters: &str) -> &str {
    let own = NAMES.iter().find(|(l, _)| *l == letters).map(|(_, name)| *name);
    own.or_else(|| isocountry::CountryCode::for_alpha2(letters).ok().map(|c| c.name())).unwrap_or(letters)
}

/// Countries whose names have an article in a sentence.
const WITH_ARTICLE: [&str; 18] =
    ["AE", "BS", "CD", "CF", "CG", "CK", "DO", "FK", "GB", "GM", "KM", "KY", "MH", "MV", "NL", "PH", "SB", "US"];

/// A country's name as it stands in a sentence: `the Netherlands`.
pub fn with_article(letters: &str) -> String {
    let name = country(letters);
    if WITH_ARTICLE.contains(&letters) { format!("the {name}") } else { name.to_owned() }
}

/// Everything that a country is called here, its name first.
pub fn names(letters: &str) -> impl Iterator<Item = &str> {
    let also = ALSO.iter().filter(move |(l, _)| *l == letters).map(|(_, name)| *name);
    std::iter::once(country(letters)).chain(also)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn leiden() -> (Town, Spot) {
        let town = Town { id: 1, name: "Leiden".into(), region: "South Holland".into(), country: "NL".into() };
        (town, Spot::new(52.15833, 4.49306).unwrap())
    }

    #[test]
    fn nothing_is_told_to_be_in_a_town() {
        let (town, spot) = leiden();
        assert_eq!(town.near(spot, spot), "near Leiden, Netherlands");
        assert_eq!(town.near(spot, Spot::new(52.5, 3.0).unwrap()), "about 108 km from Leiden, Netherlands");
        assert_eq!(town.near(spot, Spot::new(-52.0, -176.0).unwrap()), "about 19,977 km from Leiden, Netherlands");
    }

    #[test]
    fn countries_have_names_that_people_use() {
        let all = isocountry::CountryCode::iter().map(|c| country(c.alpha2()));
        for name in all {
            assert!(
                !name.contains("Republic of") && !name.contains(", ")
                    || name.starts_with("Bonaire")
                    || name.starts_with("Saint Helena"),
                "{name}"
            );
        }
        assert_eq!(names("NL").collect::<Vec<_>>(), ["Netherlands", "Holland", "The Netherlands"]);
        assert_eq!(names("GB").collect::<Vec<_>>(), ["United Kingdom", "UK", "Great Britain", "Britain"]);
    }
}
