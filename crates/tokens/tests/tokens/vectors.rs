//! The standards' own examples: RFC 7515, appendix A; RFC 7520, 4; RFC 8037, appendix A.

use ostrog_tokens::Refused;
use ostrog_tokens::jws::Jws;
use ostrog_tokens::keys::KeySet;
use rstest::rstest;
use serde_json::{Value, json};

const PAYLOAD: &str =
    "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ";

fn rsa() -> Value {
    json!({ "kty": "RSA", "e": "AQAB", "n": concat!(
        "ofgWCuLjybRlzo0tZWJjNiuSfb4p4fAkd_wWJcyQoTbji9k0l8W26mPddxHmfHQp-Vaw-4qPCJrcS2mJPMEzP1Pt0Bm4d4QlL-yRT-SFd2lZS",
        "-pCgNMsD1W_YpRPEwOWvG6b32690r2jZ47soMZo9wGzjb_7OMg0LOL-bSf63kpaSHSXndS5z5rexMdbBYUsLA9e-KXBdQOS-UTo7WTBEMa2R2",
        "CapHg665xsmtdVMTBQY4uDZlxvb3qCo5ZwKh9kG4LT6_I5IhlJH7aGhyxXFvUK-DWNmoudF8NAco9_h9iaGNj8q2ethFkMLs91kzk2PAcDTW9",
        "gb54h4FRWyuXpoQ") })
}

fn p256() -> Value {
    json!({ "kty": "EC", "crv": "P-256", "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
            "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0" })
}

fn ed25519() -> Value {
    json!({ "kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo" })
}

const RS256: &str = concat!(
    "cC4hiUPoj9Eetdgtv3hF80EGrhuB__dzERat0XF9g2VtQgr9PJbu3XOiZj5RZmh7AAuHIm4Bh-0Qc_lF5YKt_O8W2Fp5jujGbds9uJdbF9CUAr7t1",
    "dnZcAcQjbKBYNX4BAynRFdiuB--f_nZLgrnbyTyWzO75vRK5h6xBArLIARNPvkSjtQBMHlb1L07Qe7K0GarZRmB_eSN9383LcOLn6_dO--xi12jz",
    "DwusC-eOkHWEsqtFZESc6BfI7noOPqvhJ1phCnvWh6IeYI2w9QOYEUipUTI8np6LbgGY9Fs98rqVt5AXLIhWkWywlVmtVrBp0igcN_IoypGlUPQG",
    "e77Rw"
);
const ES256: &str = "DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q";
const EDDSA: &str = "hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg";

#[rstest]
#[case::rfc_7515_a_2("eyJhbGciOiJSUzI1NiJ9", PAYLOAD, RS256, rsa())]
#[case::rfc_7515_a_3("eyJhbGciOiJFUzI1NiJ9", PAYLOAD, ES256, p256())]
#[case::rfc_8037_a_4("eyJhbGciOiJFZERTQSJ9", "RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc", EDDSA, ed25519())]
fn signatures_of_the_standards_hold_and_no_other(
    #[case] header: &str,
    #[case] payload: &str,
    #[case] signature: &str,
    #[case] key: Value,
) {
    let set = |keys: &[Value]| KeySet::read(json!({ "keys": keys }).to_string().as_bytes()).expect("keys");
    let held = |token: &str, keys: &[Value]| {
        let jws = Jws::read(token)?;
        set(keys).verify(&jws)
    };
    let token = format!("{header}.{payload}.{signature}");
    assert_eq!(held(&token, std::slice::from_ref(&key)), Ok(()));
    assert_eq!(held(&token, &[rsa(), p256(), ed25519()]), Ok(()), "each key only for its own");
    let others: Vec<Value> = [rsa(), p256(), ed25519()].into_iter().filter(|other| *other != key).collect();
    assert_eq!(held(&token, &others), Err(Refused::UnknownKey));
    // One bit anywhere, and it holds no longer.
    for at in [payload.len() / 2, payload.len() + signature.len() / 2] {
        let mut bytes = token.clone().into_bytes();
        let at = header.len() + 1 + at;
        bytes[at] = if bytes[at] == b'A' { b'B' } else { b'A' };
        let other = String::from_utf8(bytes).expect("ASCII");
        assert!(held(&other, std::slice::from_ref(&key)).is_err(), "{other}");
    }
}

#[rstest]
#[case::rfc_7515_a_1_shared_secret(
    "eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9",
    "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
)]
#[case::rfc_7515_a_4_p_521(
    "eyJhbGciOiJFUzUxMiJ9",
    "AdwMgeerwtHoh-l192l60hp9wAHZFVJbLfD_UxMi70cwnZOYaRI1bKPWROc-mZZqwqT2SI-KGDKB34XO0aw_7XdtAG8GaSwFKdCAPZgoXD2YBJZCPEX3xKpRwcdOO8KpEHwJjyqOgzDO7iKvU8vcnwNrmxYbSW9ERBXukOXolLzeO_Jn"
)]
#[case::rfc_7515_a_5_unsecured("eyJhbGciOiJub25lIn0", "")]
fn algorithms_that_are_none_here(#[case] header: &str, #[case] signature: &str) {
    let token = format!("{header}.{PAYLOAD}.{signature}");
    assert_eq!(Jws::read(&token).map(drop), Err(Refused::Algorithm));
}

/// RFC 7520, 4: one payload under four algorithms. The keys are those of its 3.3, which two of them are for.
const COOKBOOK: &str = concat!(
    "SXTigJlzIGEgZGFuZ2Vyb3VzIGJ1c2luZXNzLCBGcm9kbywgZ29pbmcgb3V0IHlvdXIgZG9vci4gWW91IHN0ZXAgb250byB0aGUgcm9hZCwgYW",
    "5kIGlmIHlvdSBkb24ndCBrZWVwIHlvdXIgZmVldCwgdGhlcmXigJlzIG5vIGtub3dpbmcgd2hlcmUgeW91IG1pZ2h0IGJlIHN3ZXB0IG9mZiB0",
    "by4",
);

fn cookbook_key() -> Value {
    json!({ "kty": "RSA", "kid": "bilbo.baggins@hobbiton.example", "use": "sig", "e": "AQAB", "n": concat!(
        "n4EPtAOCc9AlkeQHPzHStgAbgs7bTZLwUBZdR8_KuKPEHLd4rHVTeT-O-XV2jRojdNhxJWTDvNd7nqQ0VEiZQHz_AJmSCpMaJMRBSFKrKb2wqV",
        "wGU_NsYOYL-QtiWN2lbzcEe6XC0dApr5ydQLrHqkHHig3RBordaZ6Aj-oBHqFEHYpPe7Tpe-OfVfHd1E6cS6M1FZcD1NNLYD5lFHpPI9bTwJls",
        "de3uhGqC0ZCuEHg8lhzwOHrtIQbS0FVbb9k3-tVTU4fg_3L_vniUFAKwuCLqKnS2BYwdq_mzSnbLY7h_qixoR7jig3__kRhuaxwUkRz5iaiQkq",
        "gc5gHdrNP5zw",
    ) })
}

#[rstest]
#[case::rs256_4_1("eyJhbGciOiJSUzI1NiIsImtpZCI6ImJpbGJvLmJhZ2dpbnNAaG9iYml0b24uZXhhbXBsZSJ9", concat!(
    "MRjdkly7_-oTPTS3AXP41iQIGKa80A0ZmTuV5MEaHoxnW2e5CZ5NlKtainoFmKZopdHM1O2U4mwzJdQx996ivp83xuglII7PNDi84wnB-BDkoB",
    "wA78185hX-Es4JIwmDLJK3lfWRa-XtL0RnltuYv746iYTh_qHRD68BNt1uSNCrUCTJDt5aAE6x8wW1Kt9eRo4QPocSadnHXFxnt8Is9UzpERV0",
    "ePPQdLuW3IS_de3xyIrDaLGdjluPxUAhb6L2aXic1U12podGU0KLUQSE_oI-ZnmKJ3F4uOZDnd6QZWJushZ41Axf_fcIe8u9ipH84ogoree7vj",
    "bU5y18kDquDg",
), Ok(()))]
#[case::ps384_4_2("eyJhbGciOiJQUzM4NCIsImtpZCI6ImJpbGJvLmJhZ2dpbnNAaG9iYml0b24uZXhhbXBsZSJ9", concat!(
    "cu22eBqkYDKgIlTpzDXGvaFfz6WGoz7fUDcfT0kkOy42miAh2qyBzk1xEsnk2IpN6-tPid6VrklHkqsGqDqHCdP6O8TTB5dDDItllVo6_1OLPp",
    "cbUrhiUSMxbbXUvdvWXzg-UD8biiReQFlfz28zGWVsdiNAUf8ZnyPEgVFn442ZdNqiVJRmBqrYRXe8P_ijQ7p8Vdz0TTrxUeT3lm8d9shnr2lf",
    "JT8ImUjvAA2Xez2Mlp8cBE5awDzT0qI0n6uiP1aCN_2_jLAeQTlqRHtfa64QQSUmFAAjVKPbByi7xho0uTOcbH510a6GYmJUAfmWjwZ6oD4ifK",
    "o8DYM-X72Eaw",
), Ok(()))]
#[case::es512_4_3("eyJhbGciOiJFUzUxMiIsImtpZCI6ImJpbGJvLmJhZ2dpbnNAaG9iYml0b24uZXhhbXBsZSJ9", concat!(
    "AE_R_YZCChjn4791jSQCrdPZCNYqHXCTZH0-JZGYNlaAjP2kqaluUIIUnC9qvbu9Plon7KRTzoNEuT4Va2cmL1eJAQy3mtPBu_u_sDDyYjnAMD",
    "xXPn7XrT0lw-kvAD890jl8e2puQens_IEKBpHABlsbEPX6sFY8OcGDqoRuBomu9xQ2",
), Err(Refused::Algorithm))]
#[case::hs256_4_4(
    "eyJhbGciOiJIUzI1NiIsImtpZCI6IjAxOGMwYWU1LTRkOWItNDcxYi1iZmQ2LWVlZjMxNGJjNzAzNyJ9",
    "s0h6KThzkfBBBkLspW1h84VsJZFTsPPqMDA7g1Md7p0",
    Err(Refused::Algorithm)
)]
fn the_cookbooks_signatures_hold_or_are_of_no_algorithm_that_counts(
    #[case] header: &str,
    #[case] signature: &str,
    #[case] comes_to: Result<(), Refused>,
) {
    let keys = json!({ "keys": [cookbook_key(), rsa(), ed25519()] }).to_string();
    let keys = KeySet::read(keys.as_bytes()).expect("keys");
    let held = |token: &str| Jws::read(token).and_then(|jws| keys.verify(&jws));
    assert_eq!(held(&format!("{header}.{COOKBOOK}.{signature}")), comes_to);
    if comes_to.is_ok() {
        let other = COOKBOOK.replacen('I', "J", 1);
        assert_eq!(held(&format!("{header}.{other}.{signature}")), Err(Refused::Signature));
    }
}
