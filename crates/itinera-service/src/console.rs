//! Serves the console with its content security policy (CSP level 3).

use axum::body::Body;
use axum::http::{HeaderValue, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;
use uuid::Uuid;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// What the console's build puts where a response's nonce belongs.
const PLACEHOLDER: &str = "ITINERA-NONCE";

/// A file of the console; its page for every other place, which it routes itself.
pub(crate) async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    match Files::get(path).filter(|_| !path.is_empty() && path != "index.html") {
        Some(file) => {
            // Names of built files hold a digest of their content: they never change.
            let cache = if path.starts_with("assets/") {
                "public, max-age=31536000, immutable"
            } else {
                "no-cache"
            };
            let mut response = Body::from(file.data).into_response();
            let media = HeaderValue::from_str(file.metadata.mimetype());
            if let Ok(media) = media {
                response.headers_mut().insert(header::CONTENT_TYPE, media);
            }
            set(&mut response, header::CACHE_CONTROL, cache);
            hardened(response)
        }
        None if path.starts_with("assets/") => hardened(StatusCode::NOT_FOUND.into_response()),
        None => page(),
    }
}

fn set(response: &mut Response, name: header::HeaderName, value: &'static str) {
    response.headers_mut().insert(name, HeaderValue::from_static(value));
}

fn hardened(mut response: Response) -> Response {
    set(&mut response, header::X_CONTENT_TYPE_OPTIONS, "nosniff");
    set(&mut response, header::REFERRER_POLICY, "no-referrer");
    response
}

fn page() -> Response {
    let Some(file) = Files::get("index.html") else {
        let text = "The console has not been built into this program. Build it with \
                    `cargo xtask build`; the API is at /api/v1.\n";
        return hardened((StatusCode::NOT_FOUND, text).into_response());
    };
    let nonce = Uuid::new_v4().simple().to_string();
    let html = String::from_utf8_lossy(&file.data).replace(PLACEHOLDER, &nonce);
    let mut response = html.into_response();
    set(&mut response, header::CONTENT_TYPE, "text/html; charset=utf-8");
    set(&mut response, header::CACHE_CONTROL, "no-store");
    let policy = format!(
        "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; \
         img-src 'self' data:; font-src 'self'; connect-src 'self'; worker-src 'self'; frame-ancestors 'none'; \
         base-uri 'none'; form-action 'none'"
    );
    if let Ok(value) = HeaderValue::from_str(&policy) {
        response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, value);
    }
    hardened(response)
}
