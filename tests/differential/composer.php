<?php
// Answers pairs of a Composer constraint and a version with Composer's own library.
require '/usr/share/php/Composer/Semver/autoload.php';

$answers = [];
foreach (json_decode(stream_get_contents(STDIN), true) as [$constraint, $version]) {
    try {
        $answers[] = Composer\Semver\Semver::satisfies($version, $constraint);
    } catch (UnexpectedValueException $wrong) {
        $answers[] = null;
    }
}
echo json_encode($answers);
