// Ask a model through the relay with the HTTP client of the standard library: whole, and as a stream.
// RELAY=http://127.0.0.1:8309/v1 java Ask.java LABEL
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse.BodyHandlers;

public class Ask {
    static HttpRequest request(String label, String more) {
        String token = System.getenv().getOrDefault("AGOUTI_TOKEN", "none");
        String body = "{\"model\": \"" + label + "\", \"messages\": [{\"role\": \"user\", \"content\": \"When do peas go in?\"}]" + more + "}";
        return HttpRequest.newBuilder(URI.create(System.getenv("RELAY") + "/chat/completions"))
            .header("content-type", "application/json")
            .header("authorization", "Bearer " + token)
            .POST(HttpRequest.BodyPublishers.ofString(body))
            .build();
    }

    public static void main(String[] arguments) throws Exception {
        String label = arguments.length > 0 ? arguments[0] : "almanac";
        HttpClient client = HttpClient.newHttpClient();
        var whole = client.send(request(label, ""), BodyHandlers.ofString());
        if (whole.statusCode() != 200) throw new Exception(whole.body());
        System.out.println(whole.body());
        client.send(request(label, ", \"stream\": true, \"max_tokens\": 12"), BodyHandlers.ofLines())
            .body().forEach(System.out::println);
    }
}
