//! The standards' own examples: RFC 7515, appendix A; RFC 8037, appendix A.

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
