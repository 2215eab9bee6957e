//! Signing in with an issuer: OpenID Connect Core 1.0 by authorization code with PKCE (RFC 7636), and by a device code
//! (RFC 8628) for command lines. Here it is asked and its answers are held against what was asked; what somebody may
//! do then is said by the settings.

use crate::issuers::send;
use crate::problem::Problem;
use jiff::Timestamp;
use openidconnect::core::{
    CoreAuthDisplay, CoreAuthPrompt, CoreAuthenticationFlow, CoreClaimName, CoreClaimType,
    CoreClientAuthMethod, CoreErrorResponseType, CoreGenderClaim, CoreGrantType, CoreJsonWebKey,
    CoreJweContentEncryptionAlgorithm, CoreJweKeyManagementAlgorithm, CoreJwsSigningAlgorithm,
    CoreResponseMode, CoreResponseType, CoreRevocableToken, CoreRevocationErrorResponse,
    CoreSubjectIdentifierType, CoreTokenIntrospectionResponse, CoreTokenType,
};
use openidconnect::{
    AdditionalClaims, AdditionalProviderMetadata, AuthorizationCode, Client, ClientId, ClientSecret,
    CsrfToken, DeviceAuthorizationUrl, DeviceCodeErrorResponseType, EmptyExtraTokenFields, EndpointMaybeSet,
    EndpointNotSet, EndpointSet, HttpRequest, HttpResponse, IdTokenClaims, IdTokenFields, IssuerUrl, Nonce,
    OAuth2TokenResponse as _, PkceCodeChallenge, PkceCodeVerifier, ProviderMetadata, RedirectUrl,
    RefreshToken, RequestTokenError, Scope, StandardErrorResponse, StandardTokenResponse,
};
use ostrog_store::issuer::Issuer;
use ostrog_store::session::Claimed;
use ostrog_tokens::discovery::{self, is_loopback};
use ostrog_tokens::issuers::{Reach, Unfetched};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;
use url::Url;

/// Largest answer of an issuer, in bytes.
const MAX_ANSWER: usize = 1 << 20;
/// How long what an issuer says of itself, and its keys, are asked for no more.
const FRESH: Duration = Duration::from_secs(60);
/// How many sign-ins are worked on at a time: whoever begins one is nobody yet.
const AT_A_TIME: usize = 16;
/// How old an ID token may be, and how far clocks may differ, in seconds.
const ISSUED: i64 = 600;
const LEEWAY: i64 = 30;
/// Most groups of one person, and the longest name of one.
const MAX_GROUPS: usize = 1_000;
const MAX_NAME: usize = 256;
/// Longest token to be renewed with that fits in a cookie.
const MAX_RENEWAL: usize = 3_500;
/// How long somebody may have been signed in to the issuer, in seconds: as long as a session lasts here.
const SIGNED_IN: u64 = 12 * 3_600;

/// Claims besides those of the standard.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
struct More {
    #[serde(default)]
    groups: Value,
}
impl AdditionalClaims for More {}

/// What an issuer says of itself besides the standard's.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
struct AlsoSaid {
    device_authorization_endpoint: Option<DeviceAuthorizationUrl>,
    #[serde(default)]
    authorization_response_iss_parameter_supported: bool,
}
impl AdditionalProviderMetadata for AlsoSaid {}

type Said = ProviderMetadata<
    AlsoSaid,
    CoreAuthDisplay,
    CoreClientAuthMethod,
    CoreClaimName,
    CoreClaimType,
    CoreGrantType,
    CoreJweContentEncryptionAlgorithm,
    CoreJweKeyManagementAlgorithm,
    CoreJsonWebKey,
    CoreResponseMode,
    CoreResponseType,
    CoreSubjectIdentifierType,
>;
type Fields = IdTokenFields<
    More,
    EmptyExtraTokenFields,
    CoreGenderClaim,
    CoreJweContentEncryptionAlgorithm,
    CoreJwsSigningAlgorithm,
>;
type Tokens = StandardTokenResponse<Fields, CoreTokenType>;
type OurClient = Client<
    More,
    CoreAuthDisplay,
    CoreGenderClaim,
    CoreJweContentEncryptionAlgorithm,
    CoreJsonWebKey,
    CoreAuthPrompt,
    StandardErrorResponse<CoreErrorResponseType>,
    Tokens,
    CoreTokenIntrospectionResponse,
    CoreRevocableToken,
    CoreRevocationErrorResponse,
    EndpointSet,
    EndpointNotSet,
    EndpointNotSet,
    EndpointNotSet,
    EndpointMaybeSet,
    EndpointMaybeSet,
>;

/// Why somebody is not signed in. Says nothing of what an issuer sent.
#[derive(Debug, thiserror::Error)]
pub enum Unsigned {
    /// It cannot be asked.
    #[error("the issuer cannot be asked: {0}")]
    Unasked(String),
    /// It does not have what is needed.
    #[error("the issuer says not where {0}")]
    Without(&'static str),
    /// It refused.
    #[error("the issuer refused ({0})")]
    Refused(String),
    /// What it sent does not hold.
    #[error("what the issuer sent does not hold: {0}")]
    NotHeld(String),
    /// Nobody has confirmed the device yet.
    #[error("nobody has confirmed it yet")]
    Pending,
    /// The device asks too often.
    #[error("it asks too often")]
    SlowDown,
    /// Too many sign in at once.
    #[error("too many sign in at once; try again in a moment")]
    Busy,
}

impl From<Unsigned> for Problem {
    fn from(why: Unsigned) -> Problem {
        match why {
            Unsigned::Busy => Problem::unavailable("Too many sign in at once; try again in a moment."),
            Unsigned::Unasked(_) | Unsigned::Without(_) => {
                Problem::unavailable(format!("Not signed in: {why}."))
            }
            why => Problem::unauthenticated(format!("Not signed in: {why}.")),
        }
    }
}

/// How somebody is to show who they are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asking {
    /// As it suits the issuer.
    AsIsUsual,
    /// Anew, whoever is signed in there.
    Anew,
}

/// What is begun, for whoever began it to keep: what comes back counts with exactly this.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Begun {
    /// The issuer's key.
    pub issuer: String,
    /// What comes back with the code.
    pub state: String,
    /// What the ID token must name.
    pub nonce: String,
    /// What the code is had with (RFC 7636).
    pub verifier: String,
    /// Where the console goes on.
    pub to: String,
    /// When, in seconds.
    pub at: i64,
}

/// A device that waits to be confirmed (RFC 8628, 3.2).
#[derive(Clone, Debug)]
pub struct Device {
    /// What the tokens are had with.
    pub code: String,
    /// What whoever confirms it is shown.
    pub short: String,
    /// Where.
    pub page: String,
    /// Where, with the code in it.
    pub page_with_code: Option<String>,
    /// For how many seconds.
    pub lasts: u64,
    /// How many seconds lie between two questions.
    pub interval: u64,
}

/// Somebody whom an issuer named.
#[derive(Debug)]
pub struct Named {
    /// Who, and what it says of them.
    pub claimed: Claimed,
    /// What these claims are had anew with.
    pub renewal: Option<String>,
}

/// Signing in with issuers.
#[derive(Debug)]
pub struct SignIns {
    /// By issuer, the secret of this service as its client, if it has one.
    secrets: BTreeMap<String, String>,
    said: Mutex<HashMap<String, (Instant, Arc<Said>)>>,
    room: Semaphore,
}

impl SignIns {
    /// With the secrets of this service as a client, by issuer.
    pub fn new(secrets: BTreeMap<String, String>) -> SignIns {
        SignIns { secrets, said: Mutex::default(), room: Semaphore::new(AT_A_TIME) }
    }

    /// This service as a client of an issuer.
    ///
    /// # Errors
    /// If it cannot be asked what it says of itself.
    pub async fn with<'s>(&'s self, issuer: &'s Issuer, client: &'s str) -> Result<Party<'s>, Unsigned> {
        let _place = self.room.try_acquire().map_err(|_| Unsigned::Busy)?;
        let known = {
            let said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
            said.get(&issuer.iss).filter(|(at, _)| at.elapsed() < FRESH).map(|(_, said)| Arc::clone(said))
        };
        let said = match known {
            Some(said) => said,
            None => {
                let url =
                    IssuerUrl::new(issuer.iss.clone()).map_err(|why| Unsigned::Unasked(why.to_string()))?;
                let reach = reach(issuer);
                let said = Said::discover_async(url, &move |request| ask(request, reach)).await;
                let said = Arc::new(said.map_err(|why| Unsigned::Unasked(undiscovered(&why)))?);
                let mut all = self.said.lock().unwrap_or_else(PoisonError::into_inner);
                all.retain(|_, (at, _)| at.elapsed() < FRESH);
                all.insert(issuer.iss.clone(), (Instant::now(), Arc::clone(&said)));
                said
            }
        };
        let id = ClientId::new(client.to_owned());
        let secret = self.secrets.get(&issuer.key).map(String::as_str);
        let known_by = secret.map(|secret| ClientSecret::new(secret.to_owned()));
        let client = Client::from_provider_metadata(Said::clone(&said), id, known_by);
        Ok(Party { issuer, said, client, secret, reach: reach(issuer), room: &self.room })
    }
}

fn reach(issuer: &Issuer) -> Reach {
    let loopback = discovery::issuer(&issuer.iss).is_ok_and(|url| is_loopback(&url));
    Reach { loopback, private: issuer.private }
}

async fn ask(request: HttpRequest, reach: Reach) -> Result<HttpResponse, Unfetched> {
    send(request, reach, MAX_ANSWER).await
}

fn undiscovered(why: &openidconnect::DiscoveryError<Unfetched>) -> String {
    match why {
        openidconnect::DiscoveryError::Request(why) => why.to_string(),
        openidconnect::DiscoveryError::Response(status, ..) => format!("it answered with status {status}"),
        openidconnect::DiscoveryError::Validation(_) => "its document speaks of another issuer".to_owned(),
        _ => "its document cannot be read".to_owned(),
    }
}

/// This service as a client of an issuer.
#[derive(Debug)]
pub struct Party<'s> {
    issuer: &'s Issuer,
    said: Arc<Said>,
    client: OurClient,
    secret: Option<&'s str>,
    reach: Reach,
    room: &'s Semaphore,
}

impl Party<'_> {
    /// Where somebody is sent to say who they are, and what is to be kept until they come back.
    ///
    /// # Errors
    /// If `back` is no address.
    pub fn begin(&self, back: &str, to: &str, asking: Asking) -> Result<(Url, Begun), Unsigned> {
        let back = RedirectUrl::new(back.to_owned()).map_err(|why| Unsigned::Unasked(why.to_string()))?;
        let (challenge, verifier) = PkceCodeChallenge::new_random_sha256();
        let flow = CoreAuthenticationFlow::AuthorizationCode;
        let client = self.client.clone().set_redirect_uri(back);
        let mut asked = client.authorize_url(flow, CsrfToken::new_random, Nonce::new_random);
        asked = asked.set_pkce_challenge(challenge);
        if let Some(scope) = self.lasting() {
            asked = asked.add_scope(scope);
        }
        asked = match asking {
            Asking::AsIsUsual => asked.set_max_age(Duration::from_secs(SIGNED_IN)),
            Asking::Anew => asked.set_max_age(Duration::ZERO).add_prompt(CoreAuthPrompt::Login),
        };
        let (url, state, nonce) = asked.url();
        let begun = Begun {
            issuer: self.issuer.key.clone(),
            state: state.into_secret(),
            nonce: nonce.secret().clone(),
            verifier: verifier.into_secret(),
            to: to.to_owned(),
            at: Timestamp::now().as_second(),
        };
        Ok((url, begun))
    }

    /// What asks for a token to renew claims with (OpenID Connect Core 1.0, 11), where the issuer knows it.
    fn lasting(&self) -> Option<Scope> {
        let known = self.said.scopes_supported();
        let lasting = || Scope::new("offline_access".to_owned());
        known.filter(|scopes| scopes.contains(&lasting())).map(|_| lasting())
    }

    /// Whether answers of this issuer say from whom they come (RFC 9207), and this one may be its.
    pub fn may_be_of(&self, iss: Option<&str>) -> bool {
        let says = self.said.additional_metadata().authorization_response_iss_parameter_supported;
        iss.map_or(!says, |iss| iss == self.issuer.iss)
    }

    /// Who came back with a code.
    ///
    /// # Errors
    /// If the issuer refuses it, or what it sends does not hold.
    pub async fn by_code(
        &self,
        code: &str,
        back: &str,
        verifier: String,
        nonce: String,
    ) -> Result<Named, Unsigned> {
        let _place = self.room.try_acquire().map_err(|_| Unsigned::Busy)?;
        let back = RedirectUrl::new(back.to_owned()).map_err(|why| Unsigned::Unasked(why.to_string()))?;
        let client = self.client.clone().set_redirect_uri(back);
        let asked = client.exchange_code(AuthorizationCode::new(code.to_owned()));
        let asked = asked.map_err(|_| Unsigned::Without("tokens are had"))?;
        let reach = self.reach;
        let asked = asked.set_pkce_verifier(PkceCodeVerifier::new(verifier));
        let tokens =
            asked.request_async(&move |request| ask(request, reach)).await.map_err(|why| refused(&why))?;
        self.named(&tokens, Some(&Nonce::new(nonce)))
    }

    /// Whom a token to renew claims with is of, now.
    ///
    /// # Errors
    /// If the issuer refuses it, or what it sends does not hold.
    pub async fn by_renewal(&self, renewal: &str) -> Result<Named, Unsigned> {
        let _place = self.room.try_acquire().map_err(|_| Unsigned::Busy)?;
        let renewal = RefreshToken::new(renewal.to_owned());
        let asked = self.client.exchange_refresh_token(&renewal);
        let asked = asked.map_err(|_| Unsigned::Without("tokens are had"))?;
        let reach = self.reach;
        let tokens =
            asked.request_async(&move |request| ask(request, reach)).await.map_err(|why| refused(&why))?;
        let mut named = self.named(&tokens, None)?;
        // Whoever gives no other lets the same one count again (RFC 6749, 6).
        named.renewal.get_or_insert_with(|| renewal.secret().clone());
        Ok(named)
    }

    /// Whether command lines can sign in with a device code.
    pub fn has_devices(&self) -> bool {
        self.said.additional_metadata().device_authorization_endpoint.is_some()
    }

    /// Begins with a device.
    ///
    /// # Errors
    /// If the issuer has none, or refuses.
    pub async fn device(&self) -> Result<Device, Unsigned> {
        let _place = self.room.try_acquire().map_err(|_| Unsigned::Busy)?;
        let url = self.said.additional_metadata().device_authorization_endpoint.clone();
        let url = url.ok_or(Unsigned::Without("devices are confirmed"))?;
        let client = self.client.clone().set_device_authorization_url(url);
        let mut asked = client.exchange_device_code();
        if let Some(scope) = self.lasting() {
            asked = asked.add_scope(scope);
        }
        let reach = self.reach;
        let given: openidconnect::core::CoreDeviceAuthorizationResponse =
            asked.request_async(&move |request| ask(request, reach)).await.map_err(|why| refused(&why))?;
        Ok(Device {
            code: given.device_code().secret().clone(),
            short: given.user_code().secret().clone(),
            page: given.verification_uri().to_string(),
            page_with_code: given.verification_uri_complete().map(|page| page.secret().clone()),
            lasts: given.expires_in().as_secs(),
            interval: given.interval().as_secs().max(1),
        })
    }

    /// Who confirmed a device. It is asked once: how often, is for whoever waits.
    ///
    /// # Errors
    /// If nobody has yet, the issuer refuses, or what it sends does not hold.
    pub async fn by_device(&self, code: &str) -> Result<Named, Unsigned> {
        let _place = self.room.try_acquire().map_err(|_| Unsigned::Busy)?;
        let token = self.said.token_endpoint().ok_or(Unsigned::Without("tokens are had"))?;
        let mut form = vec![
            ("grant_type", "urn:ietf:params:oauth:grant-type:device_code"),
            ("device_code", code),
            ("client_id", self.client.client_id().as_str()),
        ];
        if let Some(secret) = self.secret {
            form.push(("client_secret", secret));
        }
        let body = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(form).finish();
        let request = axum::http::Request::post(token.as_str())
            .header("content-type", "application/x-www-form-urlencoded")
            .header("accept", "application/json")
            .body(body.into_bytes())
            .map_err(|_| Unsigned::Without("tokens are had"))?;
        let answer = ask(request, self.reach).await.map_err(|why| Unsigned::Unasked(why.to_string()))?;
        if !answer.status().is_success() {
            let refused: Result<StandardErrorResponse<DeviceCodeErrorResponseType>, _> =
                serde_json::from_slice(answer.body());
            return Err(match refused.as_ref().map(StandardErrorResponse::error) {
                Ok(DeviceCodeErrorResponseType::AuthorizationPending) => Unsigned::Pending,
                Ok(DeviceCodeErrorResponseType::SlowDown) => Unsigned::SlowDown,
                Ok(why) => Unsigned::Refused(word(why.as_ref())),
                Err(_) => Unsigned::Refused(format!("status {}", answer.status().as_u16())),
            });
        }
        let tokens: Tokens = serde_json::from_slice(answer.body())
            .map_err(|_| Unsigned::NotHeld("the answer with the tokens cannot be read".to_owned()))?;
        self.named(&tokens, None)
    }

    /// Holds the ID token against what was asked, and this issuer's keys (OpenID Connect Core 1.0, 3.1.3.7).
    fn named(&self, tokens: &Tokens, nonce: Option<&Nonce>) -> Result<Named, Unsigned> {
        let not_held = |why: &str| Unsigned::NotHeld(why.to_owned());
        let token = tokens.extra_fields().id_token().ok_or_else(|| not_held("there is no ID token"))?;
        let now = Timestamp::now().as_second();
        let signed_with: Vec<CoreJwsSigningAlgorithm> = self
            .said
            .id_token_signing_alg_values_supported()
            .iter()
            .filter(|algorithm| {
                use CoreJwsSigningAlgorithm::{HmacSha256, HmacSha384, HmacSha512, None};
                // A secret that is shared signs nothing here, and nothing is taken unsigned.
                !matches!(algorithm, HmacSha256 | HmacSha384 | HmacSha512 | None)
            })
            .cloned()
            .collect();
        let verifier = self.client.id_token_verifier().set_allowed_algs(signed_with);
        let verifier = verifier.set_issue_time_verifier_fn(move |at| {
            let at = at.timestamp();
            if (now - ISSUED..=now + LEEWAY).contains(&at) { Ok(()) } else { Err("iat".to_owned()) }
        });
        let named = |given: Option<&Nonce>| match nonce {
            Some(nonce) if given.map(Nonce::secret) == Some(nonce.secret()) => Ok(()),
            None => Ok(()),
            Some(_) => Err("its nonce is not the one that was sent".to_owned()),
        };
        let claims: &IdTokenClaims<More, CoreGenderClaim> =
            token.claims(&verifier, named).map_err(|why| not_held(&unheld(&why)))?;
        let subject = claims.subject().as_str();
        if subject.is_empty() || subject.len() > MAX_NAME {
            return Err(not_held("its sub is empty, or too long"));
        }
        let groups: Vec<String> = match &claims.additional_claims().groups {
            Value::Array(all) => all.iter().filter_map(Value::as_str).map(str::to_owned).collect(),
            Value::String(one) => vec![one.clone()],
            _ => Vec::new(),
        };
        if groups.len() > MAX_GROUPS || groups.iter().any(|group| group.len() > MAX_NAME) {
            return Err(not_held("it names more than 1,000 groups, or one of more than 256 bytes"));
        }
        let name = claims.name().and_then(|name| name.get(None)).map(|name| name.as_str());
        let name = name.or_else(|| claims.preferred_username().map(|name| name.as_str())).unwrap_or(subject);
        let auth_time = claims.auth_time().map(|at| at.timestamp()).filter(|at| *at <= now + LEEWAY);
        let claimed = Claimed {
            issuer: self.issuer.key.clone(),
            sub: subject.to_owned(),
            name: name.chars().take(MAX_NAME).collect(),
            groups,
            signed_in_at: auth_time.and_then(|at| Timestamp::from_second(at).ok()),
        };
        let renewal = tokens.refresh_token().map(|token| token.secret().clone());
        Ok(Named { claimed, renewal: renewal.filter(|renewal| renewal.len() <= MAX_RENEWAL) })
    }
}

/// Why an ID token does not hold, without anything that stood in it.
fn unheld(why: &openidconnect::ClaimsVerificationError) -> String {
    use openidconnect::ClaimsVerificationError as Why;
    match why {
        Why::Expired(_) => "it counts no longer (exp)",
        Why::InvalidAudience(_) => "it is for another client (aud)",
        Why::InvalidIssuer(_) => "it is of another issuer (iss)",
        Why::InvalidNonce(_) => "its nonce is not the one that was sent",
        Why::SignatureVerification(_) => "its signature is not by its issuer's key",
        Why::InvalidAuthTime(_) => "auth_time",
        Why::Unsupported(_) => "it is of a kind that is not known here",
        _ => "it is not as it must be (iat, azp or its shape)",
    }
    .to_owned()
}

/// The word of an error that is one (RFC 6749, 5.2).
fn word(text: &str) -> String {
    let is_word = text.len() <= 40 && text.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'_');
    if is_word { text.to_owned() } else { "an error that is none of the standard's".to_owned() }
}

fn refused(why: &RequestTokenError<Unfetched, StandardErrorResponse<CoreErrorResponseType>>) -> Unsigned {
    match why {
        RequestTokenError::ServerResponse(said) => Unsigned::Refused(word(said.error().as_ref())),
        RequestTokenError::Request(why) => Unsigned::Unasked(why.to_string()),
        _ => Unsigned::NotHeld("the answer with the tokens cannot be read".to_owned()),
    }
}
