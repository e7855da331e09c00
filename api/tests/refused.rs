//! What can't be derived is refused, at the field that is at fault. Programs are compiled for it, so this is not among the library's own tests.

#[test]
fn what_can_not_be_is_refused_at_the_field() {
    trybuild::TestCases::new().compile_fail("tests/refused/*.rs");
}
