# Ask a model through the relay with the HTTP client of the standard library: whole, and as a stream.
# RELAY=http://127.0.0.1:8309/v1 perl ask.pl LABEL
use strict;
use warnings;
use HTTP::Tiny;
use JSON::PP;

$| = 1;
my $label = $ARGV[0] // 'almanac';
my %headers = ('content-type' => 'application/json', authorization => 'Bearer ' . ($ENV{AGOUTI_TOKEN} // 'none'));
my $client = HTTP::Tiny->new;

sub ask {
    my ($more, %options) = @_;
    my $body = { model => $label, messages => [ { role => 'user', content => 'When do peas go in?' } ], %$more };
    my $reply = $client->post("$ENV{RELAY}/chat/completions", { headers => \%headers, content => encode_json($body), %options });
    die "$reply->{status}: $reply->{content}\n" unless $reply->{success};
    return $reply->{content};
}

print ask({}), "\n";
ask({ stream => JSON::PP::true, max_tokens => 12 }, data_callback => sub { print $_[0] });
