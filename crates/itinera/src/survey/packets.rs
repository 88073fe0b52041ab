//! Packets of a record as pcapng (draft-ietf-opsawg-pcapng), link type "raw IP".

use super::record::Record;
use crate::exit::{Code, Failure};
use pcap_file::DataLink;
use pcap_file::pcapng::PcapNgWriter;
use pcap_file::pcapng::blocks::enhanced_packet::{EnhancedPacketBlock, EnhancedPacketOption};
use pcap_file::pcapng::blocks::interface_description::{
    InterfaceDescriptionBlock, InterfaceDescriptionOption,
};
use std::borrow::Cow;
use std::fs::File;
use std::io::BufWriter;
use std::time::Duration;

/// Time stamps count nanoseconds: ten to the minus ninth.
const NANOSECONDS: u8 = 9;
/// Flags of a packet (section 4.3.1): it came in, or it went out.
const INBOUND: u32 = 1;
const OUTBOUND: u32 = 2;

pub(super) fn write(record: &Record, file: File) -> Result<(), Failure> {
    let failed = |error| Failure::new(Code::Failed, error).context("cannot write the packets");
    let mut writer = PcapNgWriter::new(BufWriter::new(file)).map_err(failed)?;
    let interface = InterfaceDescriptionBlock {
        linktype: DataLink::RAW,
        snaplen: 0,
        options: vec![InterfaceDescriptionOption::IfTsResol(NANOSECONDS)],
    };
    writer.write_pcapng_block(interface).map_err(failed)?;
    for packet in &record.packets {
        let flags = if packet.outgoing { OUTBOUND } else { INBOUND };
        let length = u32::try_from(packet.octets.len()).unwrap_or(u32::MAX);
        let block = EnhancedPacketBlock {
            interface_id: 0,
            timestamp: Duration::from_nanos(packet.unix_nanos),
            original_len: length,
            data: Cow::Borrowed(&packet.octets),
            options: vec![EnhancedPacketOption::Flags(flags)],
        };
        writer.write_pcapng_block(block).map_err(failed)?;
    }
    Ok(())
}
