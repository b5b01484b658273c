//! Results as JUnit XML, which build servers show as tests.

use std::time::Duration;

use quick_junit::{NonSuccessKind, Report, SerializeError, TestCase, TestCaseStatus, TestSuite};
use vestigum_verify::explore::{Ending, Question};

use crate::Unusable;
use crate::page::PlayedRun;

/// Playthroughs that ran, each with how long it took: a suite for each file, a case for each playthrough.
///
/// # Errors
/// If the report cannot be written as XML.
pub fn played(runs: &[(PlayedRun<'_>, Duration)]) -> Result<String, SerializeError> {
    let mut report = Report::new("vestigum play");
    report.set_time(runs.iter().map(|(_, took)| *took).sum());
    let mut rest = runs;
    while let Some((first, _)) = rest.first() {
        let count = rest.iter().take_while(|(played, _)| played.file == first.file).count();
        let mut suite = TestSuite::new(first.file);
        suite.set_time(rest[..count].iter().map(|(_, took)| *took).sum());
        for (PlayedRun { file, run }, took) in &rest[..count] {
            let status = match &run.failure {
                None => TestCaseStatus::success(),
                Some(failure) => {
                    let told = failure.told(&|_, text| text).join("\n");
                    let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                    status.set_message(format!("line {}: {}", failure.line, failure.statement));
                    status.set_description(format!("{file}:{}: {}\n{told}", failure.line, failure.statement));
                    status
                }
            };
            suite.add_test_case(case(&run.name, file, status, *took));
        }
        report.add_test_suite(suite);
        rest = &rest[count..];
    }
    report.to_string()
}

/// Questions that were explored, each with its answer and how long that took: one suite, named after the spec. An answer that is not
/// known is told as skipped.
///
/// # Errors
/// If the report cannot be written as XML.
pub fn explored(spec: &str, answers: &[(&Question, &Ending, Duration)]) -> Result<String, SerializeError> {
    let mut report = Report::new("vestigum explore");
    report.set_time(answers.iter().map(|(_, _, took)| *took).sum());
    let mut suite = TestSuite::new(spec);
    suite.set_time(answers.iter().map(|(_, _, took)| *took).sum());
    for (question, ending, took) in answers {
        let status = match ending {
            Ending::Broken(broken) => {
                let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                status.set_message(broken.what());
                status.set_description(broken.play());
                status
            }
            Ending::NeverHappened(_) | Ending::Open(..) | Ending::Unknown(..) => {
                let mut status = TestCaseStatus::skipped();
                status.set_message(ending.why_open().unwrap_or_default());
                status
            }
            Ending::Proved(_) | Ending::Played(..) | Ending::Holds(..) => TestCaseStatus::success(),
        };
        let mut case = case(question.name(), spec, status, *took);
        case.set_system_out(ending.how_known());
        suite.add_test_case(case);
    }
    report.add_test_suite(suite);
    report.to_string()
}

/// Writes a report of a run that could not begin, as an error for each input that could not be used.
///
/// # Errors
/// If the report cannot be written as XML.
pub fn unusable(inputs: &[Unusable]) -> Result<String, SerializeError> {
    let mut report = Report::new("vestigum");
    let mut suite = TestSuite::new("unusable input");
    for Unusable { name, why } in inputs {
        let mut status = TestCaseStatus::non_success(NonSuccessKind::Error);
        status.set_message(why.lines().next().unwrap_or_default());
        status.set_description(why.as_str());
        suite.add_test_case(case(name, name, status, Duration::ZERO));
    }
    report.add_test_suite(suite);
    report.to_string()
}

fn case(name: &str, class: &str, status: TestCaseStatus, took: Duration) -> TestCase {
    let mut case = TestCase::new(name, status);
    case.set_classname(class);
    case.set_time(took);
    case
}
