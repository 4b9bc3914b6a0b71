use graphodrome_service::parts::stem;

#[test]
fn names_stay_within_the_folder() {
    assert_eq!(stem("tables/pipes.csv.gz"), "tables/pipes");
    assert_eq!(stem("../../etc/passwd"), "etc/passwd");
    assert_eq!(stem("https://data.example/x y.json"), "data.example/x_y");
    assert_eq!(stem("served:a/b.parquet"), "a/b");
    assert_eq!(stem("-"), "rows");
}
