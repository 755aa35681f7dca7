//! Languages by the numbers that Windows has for them (`LANGID`): the low ten bits are the language, the others its
//! country ("Language Identifiers" in Microsoft's documentation).

/// The bits of the language itself.
pub const PRIMARY: u16 = 0x3FF;

/// How well a language that a system has fits one of a product's numbers: 2 for the same, 1 for the same language in
/// another country, 0 for another language.
pub fn fit(system: u16, number: u16) -> u8 {
    if system == number {
        2
    } else if system & PRIMARY == number & PRIMARY {
        1
    } else {
        0
    }
}
