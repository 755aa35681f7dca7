//! Days as people write them, and as seconds since 1970.

/// Midnight UTC of `YYYY-MM-DD`, from 1980 (where ZIP's dates begin) to 2105.
pub fn seconds_of(date: &str) -> Option<u32> {
    let mut parts = date.split(['T', ' ']).next()?.splitn(3, '-');
    let (y, m, d): (i64, i64, i64) =
        (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
    if !(1980..=2105).contains(&y) || !(1..=12).contains(&m) {
        return None;
    }
    let leap = y % 4 == 0 && (y % 100 != 0 || y % 400 == 0);
    let lengths = [31, if leap { 29 } else { 28 }, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    if d < 1 || d > lengths[m as usize - 1] {
        return None;
    }
    let leaps = |y: i64| y / 4 - y / 100 + y / 400;
    let days = (y - 1970) * 365 + leaps(y - 1) - leaps(1969) + lengths[..m as usize - 1].iter().sum::<i64>() + d - 1;
    u32::try_from(days * 86400).ok()
}

/// `YYYY-MM-DD` of seconds since 1970.
pub fn date_of(seconds: u32) -> String {
    let days = i64::from(seconds / 86400);
    // Days are counted from 0000-03-01, so that the leap day is a year's last (Hinnant's civil calendar).
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let of_era = z.rem_euclid(146_097);
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let (month, carry) = if month < 10 { (month + 3, 0) } else { (month - 9, 1) };
    format!("{:04}-{month:02}-{day:02}", year + era * 400 + carry)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_go_there_and_back() {
        for (date, seconds) in [("1980-01-01", 315_532_800), ("2000-02-29", 951_782_400), ("2026-11-23", 1_795_392_000)]
        {
            assert_eq!(seconds_of(date), Some(seconds), "{date}");
            assert_eq!(date_of(seconds), date);
        }
        for bad in ["2026-02-29", "2026-13-01", "soon", "1979-01-01", "2026-1"] {
            assert_eq!(seconds_of(bad), None, "{bad}");
        }
    }
}
