//! Invented names.

pub(crate) const DISTRICTS: [(&str, &str); 12] = [
    ("NE", "Nether Elm"),
    ("HF", "Harrow Fen"),
    ("QB", "Quern Brow"),
    ("OR", "Osier Reach"),
    ("TE", "Tarn End"),
    ("LP", "Low Pasture"),
    ("SM", "Skelmire"),
    ("BW", "Bracken Wath"),
    ("GC", "Gorse Cross"),
    ("PH", "Plover Hill"),
    ("WD", "Withy Dale"),
    ("KA", "Kestle Ash"),
];

pub(crate) const FIRST: [&str; 16] = [
    "Upper", "Lower", "Old", "New", "North", "South", "Mill", "Stone", "Alder", "Heron", "Moss", "Ridge",
    "Fallow", "Copper", "Long", "Grey",
];

pub(crate) const SECOND: [&str; 14] = [
    "Mere", "Beck", "Holt", "Garth", "Rigg", "Thwaite", "Brow", "Lea", "Combe", "Hollow", "Cleave", "Shaw",
    "Wyke", "Fold",
];

pub(crate) const MAKERS: [(&str, &str); 9] = [
    ("Arvensted Valves", "Torvale"),
    ("Brackwell & Sons", "Averley"),
    ("Coldharrow Castings", "Averley"),
    ("Delmarsh Flow", "Eldrin"),
    ("Ennister Works", "Torvale"),
    ("Fenwright Fittings", "Eldrin"),
    ("Gillander Pumps", "Sudmere"),
    ("Hexholm Metals", "Sudmere"),
    ("Ivelbrook", "Torvale"),
];

pub(crate) const CREWS: [(&str, &str); 8] = [
    ("Alder crew", "Nether Elm"),
    ("Birch crew", "Harrow Fen"),
    ("Cedar crew", "Quern Brow"),
    ("Dogwood crew", "Osier Reach"),
    ("Elder crew", "Tarn End"),
    ("Fir crew", "Low Pasture"),
    ("Gorse crew", "Skelmire"),
    ("Hazel crew", "Plover Hill"),
];

pub(crate) const MATERIALS: [&str; 5] = ["cast iron", "ductile iron", "PVC", "PE", "steel"];
