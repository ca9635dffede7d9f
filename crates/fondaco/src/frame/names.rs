//! Names of accounts on the screen. A directory service may take seconds to answer or hang, so nobody asks it while a
//! frame is drawn or a key is taken in: what is not known yet is noted here, asked for on a thread of its own, and
//! shown as a number until the answer has come.

use std::collections::{BTreeSet, HashMap};
use std::sync::mpsc::{Receiver, Sender};
use std::sync::{Mutex, MutexGuard, PoisonError};

use fondaco_core::catalog::Origin;
use fondaco_core::lens::{Accounts, AccountsOf};

use super::input::Event;
use super::job::send;
use super::message::Message;

/// Something that is asked about accounts.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum NameQuestion {
    /// The name of a user.
    UserName(u32),
    /// The name of a group.
    GroupName(u32),
    /// The number of a user.
    UserNumber(String),
    /// The number of a group.
    GroupNumber(String),
    /// Users that are offered while a name is typed.
    Users,
    /// Groups that are offered while a name is typed.
    Groups,
}

/// What a question about accounts has come to.
#[derive(Clone, Debug)]
pub enum NameAnswer {
    /// A name, or that no account has the number.
    Name(Option<String>),
    /// A number, or that no account has the name.
    Number(Option<u32>),
    /// Names to be offered.
    Names(Vec<String>),
}

impl NameQuestion {
    /// Asks, which may take as long as a directory service takes.
    pub fn ask(&self, accounts: &dyn Accounts) -> NameAnswer {
        match self {
            Self::UserName(number) => NameAnswer::Name(accounts.user_name(*number)),
            Self::GroupName(number) => NameAnswer::Name(accounts.group_name(*number)),
            Self::UserNumber(name) => NameAnswer::Number(accounts.user_number(name)),
            Self::GroupNumber(name) => NameAnswer::Number(accounts.group_number(name)),
            Self::Users => NameAnswer::Names(accounts.users()),
            Self::Groups => NameAnswer::Names(accounts.groups()),
        }
    }
}

/// The accounts of this machine, as far as they have been asked for.
#[derive(Debug, Default)]
pub struct KnownAccounts(Mutex<Known>);

#[derive(Debug, Default)]
struct Known {
    answers: HashMap<NameQuestion, NameAnswer>,
    /// Not asked for yet.
    wanted: BTreeSet<NameQuestion>,
    /// Asked for, and not answered yet.
    awaited: BTreeSet<NameQuestion>,
}

impl KnownAccounts {
    fn known(&self) -> MutexGuard<'_, Known> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The answer, if it is known; else it will be asked for.
    fn look_up(&self, question: NameQuestion) -> Option<NameAnswer> {
        let mut known = self.known();
        let answer = known.answers.get(&question).cloned();
        if answer.is_none() && !known.awaited.contains(&question) {
            known.wanted.insert(question);
        }
        answer
    }

    fn name(&self, question: NameQuestion, number: u32) -> Option<String> {
        match self.look_up(question) {
            Some(NameAnswer::Name(name)) => name,
            _ => Some(format!("{number} …")),
        }
    }

    fn number(&self, question: NameQuestion) -> Option<u32> {
        match self.look_up(question) {
            Some(NameAnswer::Number(number)) => number,
            _ => None,
        }
    }

    fn names(&self, question: NameQuestion) -> Vec<String> {
        match self.look_up(question) {
            Some(NameAnswer::Names(names)) => names,
            _ => Vec::new(),
        }
    }
}

impl Accounts for KnownAccounts {
    fn user_number(&self, name: &str) -> Option<u32> {
        self.number(NameQuestion::UserNumber(name.to_owned()))
    }

    fn group_number(&self, name: &str) -> Option<u32> {
        self.number(NameQuestion::GroupNumber(name.to_owned()))
    }

    fn user_name(&self, number: u32) -> Option<String> {
        self.name(NameQuestion::UserName(number), number)
    }

    fn group_name(&self, number: u32) -> Option<String> {
        self.name(NameQuestion::GroupName(number), number)
    }

    fn users(&self) -> Vec<String> {
        self.names(NameQuestion::Users)
    }

    fn groups(&self) -> Vec<String> {
        self.names(NameQuestion::Groups)
    }
}

/// Names of accounts: those of this machine, and those of the scan that is shown.
#[derive(Debug, Default)]
pub struct Names {
    machine: KnownAccounts,
    /// Where the scan comes from, which may be another machine.
    origin: Origin,
}

impl Names {
    /// The accounts of this machine.
    pub fn of_machine(&self) -> &KnownAccounts {
        &self.machine
    }

    /// The owners of what was scanned.
    pub fn of_scan(&self) -> AccountsOf<'_> {
        AccountsOf { origin: &self.origin, system: &self.machine }
    }

    /// Another scan is shown.
    pub fn set_origin(&mut self, origin: Origin) {
        self.origin = origin;
    }

    /// What is to be asked for, once.
    pub fn take_wanted(&self) -> Vec<NameQuestion> {
        let mut known = self.machine.known();
        let wanted = std::mem::take(&mut known.wanted);
        known.awaited.extend(wanted.iter().cloned());
        wanted.into_iter().collect()
    }

    /// Whether an answer about a typed name is still to come.
    pub fn awaits_number(&self) -> bool {
        let known = self.machine.known();
        let is_number = |question: &NameQuestion| {
            matches!(question, NameQuestion::UserNumber(_) | NameQuestion::GroupNumber(_))
        };
        known.wanted.iter().chain(&known.awaited).any(is_number)
    }

    /// An answer has come.
    pub fn take(&self, question: NameQuestion, answer: NameAnswer) {
        let mut known = self.machine.known();
        known.awaited.remove(&question);
        known.answers.insert(question, answer);
    }
}

/// Answers questions about accounts, one after the other, until nobody asks any more.
pub fn answer_names(
    questions: &Receiver<(NameQuestion, Box<dyn Accounts + Send>)>,
    messages: &Sender<Event>,
) {
    while let Ok((question, accounts)) = questions.recv() {
        let answer = question.ask(&*accounts);
        send(messages, Message::Named { question, answer });
    }
}
