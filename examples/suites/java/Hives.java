// Run with:  hemzo run -- java -cp postgresql.jar examples/suites/java/Hives.java
//
// Set up once, reset before each test, held when one fails; two workers side
// by side, each with copies of its own.
import java.net.URI;
import java.net.URLEncoder;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.nio.charset.StandardCharsets;
import java.sql.Connection;
import java.sql.DriverManager;
import java.util.List;
import java.util.stream.Stream;

public class Hives {
  final String control;
  final Connection db;

  Hives(String worker) throws Exception {
    control = System.getenv("HEMZO_CONTROL") + "/w/" + worker;
    db = DriverManager.getConnection(ask("GET", "/connection?form=%7Bjdbc_full%7D"));
  }

  String ask(String method, String path) throws Exception {
    var request = HttpRequest.newBuilder(URI.create(control + path)).method(method, HttpRequest.BodyPublishers.noBody()).build();
    var answer = HttpClient.newHttpClient().send(request, HttpResponse.BodyHandlers.ofString());
    if (answer.statusCode() != 200) throw new IllegalStateException(method + " " + path + ": " + answer.body());
    return answer.body().trim();
  }

  void add(String label) throws Exception {
    ask("POST", "/reset");
    try (var statement = db.createStatement(); var row = statement.executeQuery("INSERT INTO hive (label) VALUES ('" + label + "') RETURNING id")) {
      row.next();
      if (row.getInt(1) != 3 || System.getenv("WRONG") != null) {
        ask("POST", "/hold?as=" + URLEncoder.encode("Hives.add[" + label + "]", StandardCharsets.UTF_8));
        throw new AssertionError("the new hive has the number " + row.getInt(1) + ", wanted 3");
      }
    }
  }

  public static void main(String[] args) throws Exception {
    Stream.of("java-left", "java-right").parallel().forEach(worker -> {
      try {
        var hives = new Hives(worker);
        for (var label : List.of("B1", "C1", "D1")) hives.add(label);
        hives.db.close();
        System.out.println("ok " + worker);
      } catch (Exception e) {
        throw new IllegalStateException(e);
      }
    });
  }
}
