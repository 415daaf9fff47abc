//! The user's own defaults: set, listed, applied to new files, taken away.

use crate::support::Site;

#[test]
fn own_defaults_stand_in_new_files_and_say_so() {
    let site = Site::examples();
    let usual = site.waltron(&["new", "plan", "--for", "t2.asset.toml"]).exits(0).out();
    assert!(!usual.contains("from your defaults") && usual.contains("temperature = \"20 degC\""));
    let list = site.waltron(&["config"]).exits(0).out();
    assert!(list.contains("not there yet") && list.contains("power-transformer.temperature"));
    for (key, value) in [
        ("power-transformer.temperature", "15 degC"),
        ("power-transformer.current", "5 %"),
        ("power-transformer.labels", "R N L"),
        ("power-transformer.standard", "ieee"),
        ("power-transformer.ratio", "0.4 %"),
        ("plan.tester", "R. \"Robin\" Amsel"),
    ] {
        site.waltron(&["config", "set", key, value]).exits(0);
    }
    let list = site.waltron(&["config", "--format", "json"]).exits(0).json();
    let own = |key: &str| {
        let all = list["defaults"].as_array().unwrap();
        all.iter().find(|d| d["key"] == key).unwrap().get("own").cloned()
    };
    assert_eq!(own("power-transformer.labels").unwrap(), "R N L");
    assert!(own("power-transformer.steady").is_none(), "what is not set is not there");
    // A plan with them runs as it is, and each value from there says so.
    let plan =
        ["new", "plan", "--for", "t2.asset.toml", "--rig", "t2.rig.toml", "-o", "n.plan.toml"];
    site.waltron(&plan).exits(0);
    let text = site.read("n.plan.toml");
    assert!(text.contains("tester = \"R. \\\"Robin\\\" Amsel\"    # from your defaults"), "{text}");
    assert!(text.contains("temperature = \"15 degC\"    # from your defaults"), "{text}");
    // 5 % of 209.9 A, rounded down, and no more than the file lets through it.
    assert!(text.contains("current = \"10 A\"    # from your defaults: 5 %"), "{text}");
    site.waltron(&["check", "n.plan.toml"]).exits(0);
    let asset = ["new", "asset", "power-transformer", "-o", "n.asset.toml"];
    site.waltron(&asset).exits(0);
    let text = site.read("n.asset.toml");
    for line in ["raise = \"R\"", "reference = \"85 degC\"", "ratio = \"0.4 %\""] {
        assert!(text.contains(line), "{line}: {text}");
    }
    site.waltron(&["new", "plan", "--for", "n.asset.toml", "-o", "m.plan.toml"]).exits(0);
    // Comments of the file stay when it is changed; unset and restored, what is usual stands again.
    let file = site.read("defaults.toml");
    site.write("defaults.toml", &format!("# mine\n{file}"));
    site.waltron(&["config", "unset", "power-transformer.temperature"]).exits(0);
    let file = site.read("defaults.toml");
    assert!(file.starts_with("# mine") && !file.contains("15 degC"), "{file}");
    site.waltron(&["config", "restore"]).exits(0);
    assert!(site.read("defaults.toml.old").starts_with("# mine"));
    let again = site.waltron(&["new", "plan", "--for", "t2.asset.toml"]).exits(0).out();
    assert_eq!(again, usual);
    site.waltron(&["config", "restore"]).exits(0);
}

#[test]
fn defaults_that_cannot_be_are_refused_with_their_place() {
    let site = Site::examples();
    let refused = |args: &[&str]| site.waltron(args).exits(2).err();
    let near = refused(&["config", "set", "power-transformer.temprature", "15 degC"]);
    assert!(near.contains("did you mean `power-transformer.temperature`?"), "{near}");
    let wrong = refused(&["config", "set", "power-transformer.temperature", "15 A"]);
    assert!(wrong.contains("a temperature above zero"), "{wrong}");
    let labels = refused(&["config", "set", "power-transformer.labels", "R L"]);
    assert!(labels.contains("3 words"), "{labels}");
    assert!(!site.files().contains(&"defaults.toml".to_owned()), "nothing was written");
    // A file that somebody wrote: every problem with its line, and nothing is written from it.
    site.write("defaults.toml", "[power-transformer]\nratio = \"x\"\nrato = \"1 %\"\nsteady = 3\n");
    let all = refused(&["new", "plan", "--for", "t2.asset.toml", "-o", "n.plan.toml"]);
    for words in
        ["defaults.toml:2", "`x` is no value", "there is no default `power-transformer.rato`"]
    {
        assert!(all.contains(words), "{words}: {all}");
    }
    assert!(!site.files().contains(&"n.plan.toml".to_owned()));
    refused(&["config", "set", "plan.tester", "R. Amsel"]);
    assert!(site.read("defaults.toml").contains("rato"), "nothing of it is lost");
    site.write("defaults.toml", "ratio = \"1 %\"");
    assert!(refused(&["config"]).contains("tables by family"));
}
