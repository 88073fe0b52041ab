//! Any octets as what agents upload: refused, or bounded.
#![no_main]

use itinera_model::batch::Batch;
use itinera_model::codec::decode;
use itinera_model::packed;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|octets: &[u8]| {
    if let Ok(batch) = decode::<Batch>(octets)
        && batch.check().is_ok()
    {
        assert!(batch.routes.iter().all(|route| route.hops.len() <= 64));
    }
    if let Ok(hops) = packed::unpack(octets) {
        assert!(hops.len() <= 64);
    }
});
