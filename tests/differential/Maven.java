// Answers pairs of a Maven version requirement and a version with Maven's own classes.
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import org.apache.maven.artifact.versioning.DefaultArtifactVersion;
import org.apache.maven.artifact.versioning.InvalidVersionSpecificationException;
import org.apache.maven.artifact.versioning.VersionRange;

public class Maven {
    public static void main(String[] arguments) throws Exception {
        String input = new String(System.in.readAllBytes());
        // Pairs of plain strings without escapes: a JSON parser would be one more thing to install.
        Matcher pair = Pattern.compile("\\[\"([^\"]*)\", \"([^\"]*)\"\\]").matcher(input);
        StringBuilder answers = new StringBuilder("[");
        while (pair.find()) {
            String answer;
            try {
                VersionRange range = VersionRange.createFromVersionSpec(pair.group(1));
                answer = String.valueOf(range.containsVersion(new DefaultArtifactVersion(pair.group(2))));
            } catch (InvalidVersionSpecificationException wrong) {
                answer = "null";
            }
            answers.append(answers.length() > 1 ? "," : "").append(answer);
        }
        System.out.println(answers.append("]"));
    }
}
