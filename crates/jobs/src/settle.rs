//! What is known to be wrong is not handed on: everything that a source, and what is around it, says of its own bytes
//! is asked before a result gets its name.

use crate::verify::{self, Damage};
use crate::{Item, Setting, locate};
use decanter_core::protection::KeyState;
use decanter_core::{Error, Notice, Result, SourceRef};
use std::sync::PoisonError;

impl Setting<'_> {
    /// Fails if a checksum of what anything was taken out of does not hold. What nobody has read of that is read.
    ///
    /// # Errors
    /// [`Error::Checksum`] and the like; what reading fails with; [`Error::Cancelled`].
    pub(crate) fn settle(&self) -> Result<()> {
        let duties = self.duties.lock().unwrap_or_else(PoisonError::into_inner).clone();
        if self.unchecked || !duties.iter().any(|s| s.is_checked()) {
            return Ok(());
        }
        self.watch.begin("checking what it was taken out of", None);
        duties.iter().try_for_each(|source| source.settle(self.watch))?;
        self.watch.end();
        Ok(())
    }

    /// Something was taken out of a container: its checksum is asked before a result gets its name.
    pub(crate) fn owes(&self, source: &SourceRef) {
        self.duties.lock().unwrap_or_else(PoisonError::into_inner).push(source.clone());
    }
}

impl Item {
    /// Fails if a key was given for a source that needs one, and is not the one that serves.
    ///
    /// # Errors
    /// [`Error::Key`].
    pub(crate) fn check_given_key(&self, setting: &Setting<'_>) -> Result<()> {
        let is_given = setting.key.is_some() || setting.passcode.is_some();
        let Some(protection) = self.opened.protection.as_ref().filter(|_| is_given) else { return Ok(()) };
        match &protection.key {
            KeyState::Trouble(trouble) if !trouble.wrong.is_empty() => Err(Error::Key(trouble.clone())),
            _ => Ok(()),
        }
    }

    /// What it is known by its own headers, digests and structure to have that is wrong.
    ///
    /// # Errors
    /// What reading fails with; [`Error::Cancelled`].
    pub(crate) fn damage(&self, setting: &Setting<'_>) -> Result<Vec<Damage>> {
        if setting.unchecked {
            return Ok(Vec::new());
        }
        let told =
            |text: &String| Damage { what: text.clone(), of: String::new(), files: Vec::new(), is_digest: false };
        let noticed = self.opened.told.notices.iter().filter(|n| n.is_damage);
        let mut damage: Vec<Damage> = noticed.map(|n| told(&n.text)).collect();
        damage.extend(verify::damage(&self.opened, setting)?);
        Ok(damage)
    }

    /// Fails if it has damage, unless that is to be kept; then says which.
    ///
    /// # Errors
    /// [`Error::Damaged`]; what reading fails with.
    pub(crate) fn sound(&self, keep: bool, setting: &Setting<'_>) -> Result<Vec<Notice>> {
        let damage = self.damage(setting)?;
        match damage.first() {
            Some(first) if !keep => {
                let more = match damage.len() - 1 {
                    0 => String::new(),
                    more => format!("; and {more} more"),
                };
                Err(Error::Damaged { what: format!("{}{more}", first.what) })
            }
            _ => Ok(damage.into_iter().map(|d| Notice::damage(format!("kept as it is: {}", d.what))).collect()),
        }
    }

    /// Fails for a dump that is not finished, unless zeros are to stand for what was not read.
    ///
    /// # Errors
    /// [`Error::Unreadable`].
    pub(crate) fn finished(&self, setting: &Setting<'_>) -> Result<()> {
        match &self.unfinished {
            Some(_) if !setting.incomplete => Err(locate::unfinished()),
            _ => Ok(()),
        }
    }
}
