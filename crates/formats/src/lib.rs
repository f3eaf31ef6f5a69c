//! The formats: one folder a family, one module a format, one line each in the registry below.
//!
//! A format never reaches into another one. What is inside a source is opened through the registry that
//! comes with the [`decanter_core::Opener`], so that a disc in an archive in an archive just works.

#![cfg_attr(not(test), warn(clippy::disallowed_methods))]

pub mod archive;
mod arranged;
pub mod cartridge;
pub mod chunked;
mod codepage;
pub mod disk;
mod lzx;
mod noticed;
mod num;
pub mod optical;
pub mod package;
pub mod patch;
mod raw;
pub mod record;
pub mod stream;
pub mod time;
mod walk;

use decanter_core::Registry;

/// Every format that Decanter knows.
pub static REGISTRY: Registry = Registry::new(&[
    &archive::cab::Cab,
    &archive::lha::Lha,
    &archive::lzx::Lzx,
    &archive::sevenz::SevenZ,
    &archive::tar::Tar,
    &archive::zip::Zip,
    &cartridge::gb::GAME_BOY,
    &cartridge::gba::GAME_BOY_ADVANCE,
    &cartridge::md::MEGA_DRIVE,
    &cartridge::n64::NINTENDO_64,
    &cartridge::nds::NINTENDO_DS,
    &cartridge::nes::NES,
    &cartridge::pce::PC_ENGINE,
    &cartridge::sms::MASTER_SYSTEM,
    &cartridge::snes::SNES,
    &chunked::chd::Chd,
    &chunked::cso::Ciso,
    &chunked::cso::Ziso,
    &chunked::zst::SeekableZstd,
    &disk::amiga::Adf,
    &disk::amiga::Hdf,
    &disk::amiga::Rdb,
    &disk::cbm::D64,
    &disk::cbm::D71,
    &disk::cbm::D81,
    &disk::cbm::crt::Crt,
    &disk::cbm::prg::Prg,
    &disk::cbm::t64::T64,
    &disk::cbm::vsf::Vsf,
    &disk::exfat::ExFat,
    &disk::ext::Ext,
    &disk::fat::Fat,
    &disk::gpt::Gpt,
    &disk::mbr::Mbr,
    &disk::ntfs::Ntfs,
    &optical::cd::CdRaw,
    &optical::cd::CueSheet,
    &optical::high_sierra::HighSierra,
    &optical::iso9660::Iso9660,
    &optical::udf::Udf,
    &optical::playstation::PlayStationDisc,
    &optical::ps3::Ps3Disc,
    &optical::psp::PspDisc,
    &optical::xdvdfs::Xdvdfs,
    &package::n3ds::ncsd::CARTRIDGE,
    &package::n3ds::ncch::CONTENT,
    &package::n3ds::cia::PACKAGE,
    &package::n3ds::smdh::ICON,
    &package::nx::content::CONTENT,
    &package::nx::nsp::HASHED,
    &package::nx::nsp::PACKAGE,
    &package::nx::nsp::PLAIN,
    &package::nx::xci::CARD,
    &package::ps3::classics::IMAGE,
    &package::ps3::npd::WRAPPED,
    &package::ps3::pkg::PACKAGE,
    &package::ps4::PACKAGE,
    &package::ps4::pfs::IMAGE,
    &package::ps4::pfsc::PACKED,
    &package::x360::DISC,
    &package::x360::FILES,
    &patch::bps::Bps,
    &patch::ips::Ips,
    &patch::ups::Ups,
    &patch::vcdiff::Vcdiff,
    &record::dat::Dat,
    &record::ird::Ird,
    &record::sfo::Sfo,
    &record::sums::Sums,
    &record::xbe::Xbe,
    &record::xex::Xex,
    &stream::Bz2,
    &stream::Gz,
    &stream::Xz,
]);
