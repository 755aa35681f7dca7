//! Languages: their numbers on Windows, and a sentence that is known in many of them.

/// The numbers by which Windows knows a language in its countries.
pub fn language_numbers(code: &str) -> &'static [u32] {
    match code {
        "cs" => &[1029],
        "da" => &[1030],
        "de" => &[1031, 2055, 3079, 4103, 5127],
        "en" => &[1033, 2057, 3081, 4105, 5129, 6153],
        "es" => &[3082, 1034, 2058],
        "fi" => &[1035],
        "fr" => &[1036, 2060, 3084, 4108, 5132],
        "hu" => &[1038],
        "it" => &[1040, 2064],
        "ja" => &[1041],
        "ko" => &[1042],
        "nb" => &[1044],
        "nl" => &[1043, 2067],
        "pl" => &[1045],
        "pt" => &[1046, 2070],
        "ru" => &[1049],
        "sv" => &[1053, 2077],
        "tr" => &[1055],
        "uk" => &[1058],
        "zh" => &[2052, 1028],
        _ => &[],
    }
}

/// "Drag to install" in a language.
pub fn drag_to_install(language: &str) -> Option<&'static str> {
    Some(match language {
        "cs" => "Přetáhněte pro instalaci",
        "da" => "Træk hertil for at installere",
        "de" => "Zum Installieren ziehen",
        "en" => "Drag to install",
        "es" => "Arrastre para instalar",
        "fi" => "Asenna vetämällä",
        "fr" => "Glissez pour installer",
        "hu" => "Húzza át a telepítéshez",
        "it" => "Trascinare per installare",
        "nb" => "Dra hit for å installere",
        "nl" => "Sleep om te installeren",
        "pl" => "Przeciągnij, aby zainstalować",
        "pt" => "Arraste para instalar",
        "ru" => "Перетащите для установки",
        "sv" => "Dra hit för att installera",
        "tr" => "Yüklemek için sürükleyin",
        "uk" => "Перетягніть, щоб установити",
        _ => return None,
    })
}
